"""The definition of a SQLite file as a source."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ...kinds import SourceKind
from ...spec.source import DatabaseSource


class SqliteSourceDefinition(DatabaseSource):
    """A SQLite file as a source; `path` names it."""

    forms: ClassVar[dict[str, dict[str, Any]]] = {"SQLite": {"path": ""}}
    has_change_log: ClassVar[bool] = False
    type: Literal["sqlite"]
    path: str = Field(
        min_length=1,
        title="Path; a relative one begins in `files` of the data folder",
        examples=["dock.db"],
        description="a file",
    )

    @property
    @override
    def where(self) -> str:
        return self.path

    @property
    @override
    def files(self) -> dict[tuple[str, ...], str]:
        return {("path",): self.path}


KIND = SourceKind("SQLite", SqliteSourceDefinition, f"{__package__}.database", f"{__package__}.check")
