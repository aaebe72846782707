"""The definition of a warehouse. What concerns one kind alone is in that kind's package."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import Field
from typing_extensions import override

from ..kinds import WAREHOUSES, Registry
from .database_address import ServerAddress
from .fields import Name, Prefix
from .kinded import Kinded


class Warehouse(Kinded):
    """One place that tables are loaded into."""

    registry: ClassVar[Registry[Any]] = WAREHOUSES

    warehouse: Name
    type: str
    description: str = ""
    max_concurrent_runs: int | None = Field(None, ge=1, description="runs that may load into it at the same time")
    table_prefix: Prefix = Field("", description="prefix of the names of all tables loaded here")

    @property
    def where(self) -> str:
        """Where it is, for people."""
        return ""

    @property
    def paths(self) -> dict[tuple[str, ...], str]:
        """{key: the warehouse's file or folder}."""
        return {}

    @property
    def files(self) -> dict[tuple[str, ...], str]:
        """{key: another file that it names}."""
        return {}

    @property
    def password_shown_to(self) -> tuple[str, str] | None:
        """(secret, host:port) if connecting takes a password."""
        return None


class FileWarehouse(Warehouse):
    """A warehouse in one file; `path` says where it is."""

    path: str = Field(min_length=1, description="a file; a relative path starts in the data folder's `warehouses`")

    @property
    @override
    def where(self) -> str:
        return self.path

    @property
    @override
    def paths(self) -> dict[tuple[str, ...], str]:
        return {("path",): self.path}


class ServerWarehouse(ServerAddress, Warehouse):
    """A database on a server, as a warehouse."""

    @property
    @override
    def where(self) -> str:
        return f"{self.host}:{self.port}/{self.database}"

    @property
    @override
    def password_shown_to(self) -> tuple[str, str] | None:
        return (self.password.secret, self.server) if self.password else None
