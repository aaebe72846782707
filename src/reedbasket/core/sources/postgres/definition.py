"""The definition of a PostgreSQL database as a source."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import SourceKind
from ...spec.kinded import SECRET
from ...spec.source import ServerDatabaseSource


class PostgresSourceDefinition(ServerDatabaseSource):
    """A PostgreSQL database as a source."""

    forms: ClassVar[dict[str, dict[str, Any]]] = {
        "PostgreSQL": {
            "host": "127.0.0.1",
            "port": 5432,
            "database": "",
            "schema": None,
            "user": "",
            "tls.mode": None,
            "password": SECRET,
        }
    }
    row_versions: ClassVar[bool] = True
    type: Literal["postgres"]
    port: int = Field(5432, ge=1, le=65535, title="Port")
    schema_: str = Field(
        "public", alias="schema", min_length=1, title="Schema", description="the schema of tables that are named without one"
    )

    @property
    @override
    def default_schema(self) -> str:
        return self.schema_


KIND = SourceKind("PostgreSQL", PostgresSourceDefinition, f"{__package__}.database", f"{__package__}.check", "postgres")
