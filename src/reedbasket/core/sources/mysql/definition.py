"""The definition of a MariaDB or MySQL database as a source."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import SourceKind
from ...spec.kinded import SECRET
from ...spec.source import ServerDatabaseSource


class MysqlSourceDefinition(ServerDatabaseSource):
    """A MariaDB or MySQL database as a source. A schema is a database there: write `other.table` for a table of another database."""

    forms: ClassVar[dict[str, dict[str, Any]]] = {
        "MariaDB or MySQL": {
            "host": "127.0.0.1",
            "port": 3306,
            "database": "",
            "user": "",
            "tls.mode": None,
            "password": SECRET,
        }
    }
    type: Literal["mysql"]
    port: int = Field(3306, ge=1, le=65535, title="Port")

    @property
    @override
    def default_schema(self) -> str:
        return self.database


KIND = SourceKind("MariaDB or MySQL", MysqlSourceDefinition, f"{__package__}.database", f"{__package__}.check", "mysql")
