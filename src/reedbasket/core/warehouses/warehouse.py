"""What every warehouse engine does. The unit is a load: stage batches, then commit them with ledger and cursor at once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal, Protocol

from ..check_steps import CheckStep
from ..records.layout import Family
from ..records.ledger import LedgerLine
from ..records.position import SavedCursor
from ..records.structure import TableShape
from ..shaping.batch import TableBatch
from ..spec.files import Clean
from ..spec.model import Deletes, Write
from .loader.file_list import FileLine

Link = Literal["key", "row"]


@dataclass(frozen=True)
class TableState:
    """What the warehouse knows of one table of one feed.

    Attributes:
        version: grows by one with every load, and guards against two runs of one feed: a load commits only on top of the version
            that it started from.
        structure: what was learned of the table's records.
        cursor: how far the table has been read; None where nothing is saved.
        link: by what child rows point at their parent: its key, or a number that the loader gave its row.
        key: source fields by which rows are told apart; empty for none.
        write: how the table was loaded last; None where an older version did not say.
    """

    version: int
    structure: TableShape
    cursor: SavedCursor | None
    link: Link
    key: list[str]
    write: Write | None = None


@dataclass(frozen=True)
class LoadTarget:
    """Where one table of a feed goes, and how.

    Attributes:
        run: the run's number.
        feed: its name.
        source: the source's name.
        source_table: the table's name at the source.
        table: the warehouse table's name.
        write: the write mode.
        key: source fields by which rows are told apart; empty for none.
        link: by what child rows point at their parent.
        deletes: what becomes of rows that the source no longer has.
        complete: the load will hold everything that the source shows, so that what is not in it has gone.
        again: records that were rejected before come once more: they are merged, or appended where there is no key, never over a
            newer version, and nothing else of the table changes.
        tombstones: records may say of themselves that they are gone.
        reads_all: what the load does not hold has gone, whatever the write mode.
        flat: no record holds others, so that no child tables come.
        max_removed: rows that may go because the load does not hold them, a number or a share (`spec.limits`); None for any.
    """

    run: int
    feed: str
    source: str
    source_table: str
    table: str
    write: Write
    key: list[str]
    link: Link
    deletes: Deletes = "apply"
    complete: bool = False
    again: bool = False
    tombstones: bool = False
    reads_all: bool = False
    flat: bool = False
    max_removed: int | str | None = None


@dataclass(frozen=True)
class Differences:
    """What a staged read of the source and one table do not have in common.

    Attributes:
        table: the warehouse table's name.
        source: rows that the source shows.
        warehouse: rows that the table holds: current ones, without those marked as deleted.
        only_source: keys that only the source has; None where there is no key to tell rows by.
        only_warehouse: keys that only the table has; None as before.
        differing: keys that both have, with other values; None as before.
        lacking: columns that the source shows and the table has not.
        samples: the first of each, [(what, key, {column: (source's value, warehouse's value)})].
    """

    table: str
    source: int
    warehouse: int
    only_source: int | None
    only_warehouse: int | None
    differing: int | None
    lacking: list[str]
    samples: list[tuple[str, tuple[Any, ...], dict[str, tuple[Any, Any]]]]


@dataclass(frozen=True)
class TakenWindow:
    """One window of a table, read as a whole.

    Attributes:
        lane: in which it counts: '' for the schedule's windows, else a backfill.
        begins: RFC 3339; it is in the window.
        ends: RFC 3339; it is not.
    """

    lane: str
    begins: str
    ends: str


@dataclass(frozen=True)
class Seconds:
    """Where a load's time went."""

    reading: float = 0.0
    shaping: float = 0.0
    staging: float = 0.0


@dataclass(frozen=True)
class Position:
    """What a load's ledger line and cursor say. Counts are of this load alone.

    Attributes:
        cursor: how far the table has been read with it; None where the table has no cursor, or the position is not safe.
        cursor_from: from where it was read, as people read it.
        rejected: records that could not be shaped.
        repeated: records that were recognised as loaded before.
        source_bytes: what the source sent.
        started: when reading began, aware, UTC.
        filtered: rows that the feed's `keep` left out.
        unchanged: records known to be as they were without having been staged.
        seconds: where the time went.
        forget_cursor: the saved cursor means nothing any more.
        hashes: what a compare keeps for the next one.
        files: those whose records the load holds, and others that stand otherwise now.
        window: what counts as read with this load.
    """

    cursor: SavedCursor | None
    cursor_from: str | None
    rejected: int
    repeated: int
    source_bytes: int
    started: datetime
    filtered: int = 0
    unchanged: int = 0
    seconds: Seconds = Seconds()
    forget_cursor: bool = False
    hashes: bytes | None = None
    files: Sequence[FileLine] = ()
    window: TakenWindow | None = None


class Load(Protocol):
    """One load. Not for two threads at once. notes: what a commit did beside, to bring the table along, in words."""

    staged_rows: int
    notes: list[str]

    @property
    def version(self) -> int:
        """Of what the warehouse has of the table, 0 before it has any."""

    def stage(self, family: Family, batches: Sequence[TableBatch]) -> None:
        """Keep batches aside, on disk; nothing of them is seen by a reader of the warehouse."""

    def rejected_in(self, runs: Sequence[int]) -> None:
        """Of a replay: the run that rejected each record, by the record's number in the load."""

    def mark_present(self, keys: TableBatch) -> None:
        """Keys that the source does show, though their records could not be shaped: they have not gone."""

    def mark_all_present(self, files: Iterable[int | None] | None = None) -> None:
        """The source does show records whose keys nobody could read: what this load does not hold has not gone. files: of these alone,
        whose rows of before stay until there is a version that can be read whole."""

    def gone(self, keys: TableBatch) -> None:
        """Keys that the source has no more. Their rows go as `deletes` says."""

    def tombstones(self, keys: TableBatch) -> None:
        """Records that say they are gone: key, what tells the newest, owners. Their rows go as `deletes` says, unless a later record
        of the key came."""

    def stage_unchanged(self, column: str, rows: TableBatch) -> None:
        """Staged rows that do not tell a column, because it did not change; as `shaping.unchanged_values` makes them."""

    def emptied(self) -> None:
        """The source emptied the table: what was staged so far counts no more, and what is loaded has gone."""

    def commit(self, family: Family, structure: dict[str, Any], position: Position, now: datetime) -> list[LedgerLine]:
        """Write the mode's result, the ledger and the cursor in one transaction; the stage is empty afterwards.

        Args:
            family: the table and its children, as they are to be.
            structure: what to keep beside the cursor (`TableShape.to_data`).
            position: what ledger and cursor say.
            now: the moment of the load, aware.

        Returns:
            The ledger's lines, one a table.

        Raises:
            CursorMoved: another run of the feed committed meanwhile.
            TableNotOurs, NotReconciled, WarehouseBusy, WarehouseError: as they say. After each of these nothing of the load is in the
                warehouse.
        """

    def differences(self, family: Family, *, deep: bool, samples: int) -> list[Differences]:
        """What is staged against what each table of the family holds; nothing is written.

        Args:
            family: the table and its children.
            deep: values are compared too, not only keys.
            samples: at most so many examples of each difference.
        """

    def close(self) -> None:
        """Drop what is staged and not committed."""


@dataclass(frozen=True)
class QueryResult:
    """The answer to a statement.

    Attributes:
        columns: [(name, declared type or '')].
        rows: in the statement's order.
        truncated: there were more than were asked for.
        seconds: how long it took.
    """

    columns: list[tuple[str, str]]
    rows: list[tuple[Any, ...]]
    truncated: bool
    seconds: float


@dataclass(frozen=True)
class TableInfo:
    """One table of a warehouse. rows: counted, exact. feed, source_table: which loaded it last, and out of what."""

    name: str
    columns: list[tuple[str, str]]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None
    source_table: str | None


class Warehouse(Protocol):
    """One place tables are loaded into. nul_in_text: whether its text may hold U+0000."""

    nul_in_text: bool

    def state(self, feed: str, source_table: str) -> TableState | None:
        """What is known of a table; None before it was loaded."""

    def files(self, feed: str, source_table: str) -> list[FileLine]:
        """The files of a table, by path."""

    def window_taken(self, feed: str, source_table: str, window: TakenWindow) -> int | None:
        """The load that took a window; None where none has."""

    def clean(self, feed: str, source_table: str, clean: Clean | None, version: int) -> str:
        """Make what stands on a table anew, where that table or the definition changed: what was done, in words, '' for nothing.
        Raises WarehouseError."""

    def take_again(self, feed: str, source_table: str, paths: Sequence[str]) -> int:
        """Files that the next run takes once more, whether they changed or not: how many there are. Raises WarehouseBusy."""

    def rewind(self, feed: str, source_table: str, value: str | None) -> bool:
        """The next run reads on from an earlier value of the cursor, or from the beginning; nothing of what is loaded goes. False where
        nothing is saved. Raises WarehouseBusy."""

    def known_tables(self, feed: str) -> list[str]:
        """The source's tables that the feed has loaded here, by their names there."""

    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        """What a compare kept with that version of the state; None where nothing was kept with it."""

    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        """The key columns of a table's rows, many at a time. current: a column that must be null for a row to count."""

    def owner(self, table: str) -> tuple[str, str] | None:
        """(feed, source table) that writes a table, or None."""

    def existing(self, table: str) -> dict[str, str] | None:
        """{column: declared type} of a table or view that is there, else None."""

    def begin(self, target: LoadTarget, state: TableState | None) -> Load:
        """A load on top of a state. Raises TableNotOurs, WarehouseError."""

    def tables(self) -> list[TableInfo]:
        """All tables of the warehouse, by name."""

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        """Lines with load > after, oldest first."""

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        """The newest loaded rows first. Raises NotFound."""

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        """Read only, bounded in rows and time. Raises QueryRefused."""

    def check(self) -> list[CheckStep]:
        """Each step on the way to loading, with its result; ends at the first that fails."""

    def close(self) -> None:
        """Let go of the connection."""
