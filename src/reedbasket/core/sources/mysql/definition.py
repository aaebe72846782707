"""A MariaDB or MySQL database as a source: what people write of it."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import SourceKind
from ...spec.kinded import SECRET
from ...spec.source import ServerDatabaseSource


class MysqlSourceDefinition(ServerDatabaseSource):
    """host, port, database, user, password, tls: of the server. A schema is a database there: say `other.table` for a table of another."""

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
    def home(self) -> str:
        return self.database


KIND = SourceKind("MariaDB or MySQL", MysqlSourceDefinition, f"{__package__}.database", f"{__package__}.check", "mysql")
