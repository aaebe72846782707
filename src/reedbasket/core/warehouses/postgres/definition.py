"""The definition of a PostgreSQL schema as a warehouse."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import WarehouseKind
from ...spec.warehouse import ServerWarehouse


class PostgresWarehouseDefinition(ServerWarehouse):
    """A schema of a PostgreSQL server as a warehouse; `schema` says where tables are created."""

    type: Literal["postgres"]
    port: int = Field(5432, ge=1, le=65535, title="Port")
    schema_: Annotated[str, Field(pattern=r"^[a-z_][a-z0-9_]*$", max_length=63)] = Field("public", alias="schema")

    @property
    @override
    def where(self) -> str:
        return f"{super().where}, schema {self.schema_}"


KIND = WarehouseKind("PostgreSQL", PostgresWarehouseDefinition, f"{__package__}.warehouse", "postgres")
