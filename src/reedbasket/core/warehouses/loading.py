"""A load, the unit of writing: stage batches, then commit them with ledger and cursor at once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal, Protocol

from ..records.layout import Family
from ..records.ledger import LedgerLine
from ..records.position import SavedCursor
from ..shaping.batch import TableBatch
from ..spec.model import Deletes, Write
from .loader.file_list import FileLine

Link = Literal["key", "row"]


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
    deletes: Deletes = "hard"
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
        backfill: the number of the backfill in which it counts; 0 for the schedule's own.
        begins: RFC 3339; it is in the window.
        ends: RFC 3339; it is not.
    """

    backfill: int
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
        filtered: rows that the feed's `filter` left out.
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
    """One load. Not for two threads at once.

    Attributes:
        staged_rows: rows staged since the last commit, child rows included.
        notes: what a commit did to the table besides loading it, in words; whoever reads them clears them.
    """

    staged_rows: int
    notes: list[str]

    @property
    def version(self) -> int:
        """The version of the state that the next commit builds on; 0 before the warehouse has one."""

    def stage(self, family: Family, batches: Sequence[TableBatch]) -> None:
        """Keep batches aside, on disk; nothing of them is seen by a reader of the warehouse.

        Args:
            family: the layout of the table and its children.
            batches: one a table of the family, parents first.

        Raises:
            WarehouseError: the engine refused them.
        """

    def rejected_in(self, runs: Sequence[int]) -> None:
        """Say of a replay which run rejected each record.

        Args:
            runs: numbers of runs, in the order of the records that are staged next.
        """

    def mark_present(self, keys: TableBatch) -> None:
        """Say that the source does show these keys, though their records could not be shaped: they have not gone.

        Args:
            keys: the key columns alone.
        """

    def mark_all_present(self, files: Iterable[int | None] | None = None) -> None:
        """Say that the source shows records whose keys nobody could read: what this load does not hold has not gone.

        Args:
            files: numbers of the files that hold such records, whose earlier rows stay until a version can be read; None for all.
        """

    def gone(self, keys: TableBatch) -> None:
        """Say that the source no longer has these keys; their rows go as `deletes` says.

        Args:
            keys: the key columns alone.
        """

    def tombstones(self, keys: TableBatch) -> None:
        """Take records that say they are gone; their rows go as `deletes` says, unless a later record of the key came.

        Args:
            keys: the key, what tells the newest, and the records' numbers in the load.
        """

    def stage_unchanged(self, column: str, rows: TableBatch) -> None:
        """Say which staged rows do not bring a column, because it did not change: it keeps its value.

        Args:
            column: its name.
            rows: keys and numbers of the rows, as `shaping.unchanged_values` makes them.
        """

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
        """Compare what is staged with what each table of the family holds; nothing is written.

        Args:
            family: the table and its children.
            deep: values are compared too, not only keys.
            samples: at most so many examples of each difference.

        Returns:
            One entry a table, parents first.
        """

    def close(self) -> None:
        """Drop what is staged and not committed. May be called twice."""
