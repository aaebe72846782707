"""The definition of a source. What concerns one kind alone is in that kind's package."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Self

from pydantic import Field, ModelWrapValidatorHandler, model_validator
from typing_extensions import override

from ..kinds import SOURCES, Registry
from .database_address import ServerAddress
from .fields import Name, Zone
from .kinded import Kinded, ModelClass
from .times import Duration

if TYPE_CHECKING:
    from .file_source import FileSource


class Source(Kinded):
    """One place that records come from: a connector filled in, a database or a file store (`type`).

    A secret is given by name: `{secret: harbour_token}`. `settings` are the connector's, or values that a database's queries name as
    `:settings_region`.
    """

    registry: ClassVar[Registry[Any]] = SOURCES

    source: Name
    connector: Name | None = None
    type: str | None = None
    description: str = ""
    settings: dict[str, Any] = Field(default_factory=dict)
    max_concurrent_runs: int | None = Field(
        None, ge=1, description="runs that may read it at the same time; by default as many as there are workers"
    )

    @classmethod
    @override
    def model_for(cls, data: Any) -> ModelClass:
        connector = isinstance(data, dict) and data.get("connector") is not None and data.get("type") is None
        return ConnectorSource if connector else super().model_for(data)

    @model_validator(mode="wrap")
    @classmethod
    def _one_of_two(cls, data: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        if isinstance(data, dict) and (data.get("connector") is None) == (data.get("type") is None):
            raise ValueError("give either `connector`, or `type` for a database or files")
        return handler(data)

    @property
    def as_database(self) -> DatabaseSource | None:
        """The source, if it is a database."""
        return None

    @property
    def as_files(self) -> FileSource | None:
        """The source, if it is a file store."""
        return None

    @property
    def where(self) -> str:
        """Where it is, for people."""
        return ""

    @property
    def files(self) -> dict[tuple[str, ...], str]:
        """{key: a file or folder that it names}."""
        return {}

    @property
    def secrets(self) -> dict[str, str]:
        """{key: the secret that it names}; a connector's are among its settings."""
        return {}

    @property
    def servers(self) -> set[str]:
        """The servers that receive its secrets, in lower case."""
        return set()


class ConnectorSource(Source):
    """A connector, filled in."""

    connector: Name


class DatabaseSource(Source):
    """A database as a source."""

    row_versions: ClassVar[bool] = False
    has_change_log: ClassVar[bool] = True

    time_zone: Zone = Field("UTC", description="the time zone of times without one")
    statement_timeout: Duration = Field(default="10m", description="how long a statement may take")  # type: ignore[assignment]

    @property
    @override
    def as_database(self) -> DatabaseSource | None:
        return self

    @property
    def default_schema(self) -> str:
        """The schema of tables that are named without one."""
        return ""


class ServerDatabaseSource(ServerAddress, DatabaseSource):
    """A database on a server."""

    @property
    @override
    def where(self) -> str:
        return f"{self.user}@{self.host}:{self.port}/{self.database}"

    @property
    @override
    def secrets(self) -> dict[str, str]:
        return {"password": self.password.secret} if self.password else {}

    @property
    @override
    def servers(self) -> set[str]:
        return {self.server}
