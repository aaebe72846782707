"""What every warehouse engine does. The unit is a load: stage batches, then commit them with ledger and cursor at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal, Protocol

from ..shape.shaper import TableBatch
from ..shape.structure import TableShape
from ..spec.model import Write
from .ledger import LedgerLine

Link = Literal["key", "row"]


@dataclass(frozen=True)
class SavedCursor:
    """How far a table has been taken: the highest value committed, as text, and what kind of value it is.

    seen: 8-byte digests, one after the other, of the records within the overlap of that value; None where they were too
    many to keep (a merge recognises them by itself).
    """

    kind: Literal["time", "number", "text"]
    value: str
    seen: bytes | None = b""


@dataclass(frozen=True)
class TableState:
    """What the warehouse knows of one table of one feed. version grows by one with every load, and guards against two
    runs of one feed: a load commits only on top of the version it started from."""

    version: int
    structure: TableShape
    cursor: SavedCursor | None
    link: Link
    key: list[str]


@dataclass(frozen=True)
class LoadTarget:
    """Where one table of a feed goes and how. key: source fields; empty for none. newest_by: the source
    field by which the newest of several rows of one key is told, before their order."""

    run: int
    feed: str
    source: str
    source_table: str
    table: str
    write: Write
    key: list[str]
    link: Link
    newest_by: str | None


@dataclass(frozen=True)
class Position:
    """What a load's ledger line and cursor say. `cursor` is None where the table has none, or the position is not safe.

    Counts are of this load only. started is aware, UTC.
    """

    cursor: SavedCursor | None
    cursor_from: str | None
    rejected: int
    repeated: int
    source_bytes: int
    started: datetime


class Load(Protocol):
    """One load. Not for two threads at once."""

    staged_rows: int

    def stage(self, batches: Sequence[TableBatch]) -> None:
        """Keep batches aside, on disk; nothing of them is seen by a reader of the warehouse."""

    def commit(self, structure: TableShape, position: Position, now: datetime) -> list[LedgerLine]:
        """Write the mode's result, the ledger and the cursor in one transaction; the stage is empty afterwards.

        Raises CursorMoved where another run committed meanwhile, TableNotOurs, NotReconciled, WarehouseBusy,
        WarehouseError; then nothing of the load is in the warehouse.
        """

    def close(self) -> None:
        """Drop what is staged and not committed."""


@dataclass(frozen=True)
class QueryResult:
    """Columns [(name, declared type or '')] and rows; truncated where there were more than asked for."""

    columns: list[tuple[str, str]]
    rows: list[tuple[Any, ...]]
    truncated: bool
    seconds: float


@dataclass(frozen=True)
class TableInfo:
    """One table of a warehouse. rows: counted, exact."""

    name: str
    columns: list[tuple[str, str]]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None


class Warehouse(Protocol):
    """One place tables are loaded into."""

    def state(self, feed: str, source_table: str) -> TableState | None: ...

    def owner(self, table: str) -> tuple[str, str] | None:
        """(feed, source table) that writes a table, or None."""

    def existing(self, table: str) -> dict[str, str] | None:
        """{column: declared type} of a table or view that is there, else None."""

    def begin(self, target: LoadTarget, state: TableState | None) -> Load: ...

    def tables(self) -> list[TableInfo]: ...

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        """Lines with load > after, oldest first."""

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        """The newest loaded rows first. Raises NotFound."""

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        """Read only, bounded in rows and time. Raises QueryRefused."""

    def close(self) -> None: ...
