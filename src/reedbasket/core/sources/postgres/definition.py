"""A PostgreSQL database as a source: what people write of it."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import SourceKind
from ...spec.kinded import SECRET
from ...spec.source import ServerDatabaseSource


class PostgresSourceDefinition(ServerDatabaseSource):
    """host, port, database, user, password, tls: of the server."""

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
        "public", alias="schema", min_length=1, title="Schema", description="where tables are that are named without one"
    )

    @property
    @override
    def home(self) -> str:
        return self.schema_


KIND = SourceKind("PostgreSQL", PostgresSourceDefinition, f"{__package__}.database", f"{__package__}.check", "postgres")
