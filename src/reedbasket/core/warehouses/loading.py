"""A load, the unit of writing: batches are staged, then committed together with ledger and cursor."""

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
    """Where one table of a feed is loaded, and how.

    Attributes:
        run: the run's number.
        feed: its name.
        source: the source's name.
        source_table: the table's name at the source.
        table: the warehouse table's name.
        write: the write mode.
        key: source fields that identify a row; empty for none.
        link: what child rows refer to.
        deletes: what to do with rows that no longer exist at the source.
        complete: the load will hold everything that the source shows, so what is missing no longer exists.
        again: earlier rejects are loaded again: merged, or appended without a key, never over a newer version; nothing else in the table
            changes.
        tombstones: records may say themselves that they are deleted.
        reads_everything: what the load does not hold no longer exists, whatever the write mode.
        flat: no record holds objects or lists, so there are no child tables.
        max_removed: how many rows may be removed because the load does not hold them, as a number or a share (`spec.limits`); None for any.
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
    reads_everything: bool = False
    flat: bool = False
    max_removed: int | str | None = None


@dataclass(frozen=True)
class Differences:
    """How a staged read of the source differs from one table.

    Attributes:
        table: the warehouse table's name.
        source: rows that the source shows.
        warehouse: rows that the table holds: current ones that are not marked as deleted.
        only_source: keys that only the source has; None without a key.
        only_warehouse: keys that only the table has; None without a key.
        differing: keys that both have, with different values; None without a key.
        lacking: columns that the source shows and the table does not have.
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
class LoadedWindow:
    """One window of a table, loaded as a whole.

    Attributes:
        backfill: the backfill that it belongs to; 0 for the schedule.
        begins: RFC 3339, inclusive.
        ends: RFC 3339, exclusive.
    """

    backfill: int
    begins: str
    ends: str


@dataclass(frozen=True)
class Seconds:
    """Where a load's time was spent."""

    reading: float = 0.0
    shaping: float = 0.0
    staging: float = 0.0


@dataclass(frozen=True)
class Position:
    """What a load's ledger line and cursor say. Counts are of this load alone.

    Attributes:
        cursor: how far the table has been read; None without a cursor, or if the position may not be saved.
        cursor_from: from where it was read, as people read it.
        rejected: records that could not be shaped.
        repeated: records that were recognised as loaded before.
        source_bytes: what the source sent.
        started: when reading began, aware, UTC.
        filtered: rows that the feed's `filter` left out.
        unchanged: records known to be unchanged without having been staged.
        seconds: where the time was spent.
        forget_cursor: the saved cursor is no longer valid.
        hashes: what `compare` keeps for the next run.
        files: those whose records the load holds, and others whose state changed.
        window: what counts as loaded with this load.
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
    window: LoadedWindow | None = None


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
        """The version of the state that the next commit builds on; 0 if the warehouse has none yet."""

    def stage(self, family: Family, batches: Sequence[TableBatch]) -> None:
        """Stage batches on disk; no reader of the warehouse sees them.

        Args:
            family: the layout of the table and its children.
            batches: one for each table of the family, parents first.

        Raises:
            WarehouseError: the engine refused them.
        """

    def rejected_in(self, runs: Sequence[int]) -> None:
        """For a replay: which run rejected each record.

        Args:
            runs: numbers of runs, in the order of the records that are staged next.
        """

    def mark_present(self, keys: TableBatch) -> None:
        """These keys exist at the source although their records could not be shaped, so their rows stay.

        Args:
            keys: the key columns alone.
        """

    def mark_all_present(self, files: Iterable[int | None] | None = None) -> None:
        """The source has records with unreadable keys, so rows that this load does not hold stay.

        Args:
            files: numbers of the files with such records, whose earlier rows stay; None for all.
        """

    def delete_keys(self, keys: TableBatch) -> None:
        """The source no longer has these keys; their rows go as `deletes` says.

        Args:
            keys: the key columns alone.
        """

    def tombstones(self, keys: TableBatch) -> None:
        """Records that say they are deleted; their rows go as `deletes` says, unless a later record of the key came.

        Args:
            keys: the key, the order, and the records' numbers in the load.
        """

    def stage_unchanged(self, column: str, rows: TableBatch) -> None:
        """Which staged rows do not have a column because it did not change: it keeps its value.

        Args:
            column: its name.
            rows: keys and numbers of the rows, from `shaping.unchanged_values`.
        """

    def truncated(self) -> None:
        """The source truncated the table: what is staged is dropped, and the loaded rows no longer exist."""

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
            TableNotOwned, NotReconciled, WarehouseBusy, WarehouseError: as they say. After each of these nothing of the load is in the
                warehouse.
        """

    def differences(self, family: Family, *, deep: bool, samples: int) -> list[Differences]:
        """Compare what is staged with each table of the family; nothing is written.

        Args:
            family: the table and its children.
            deep: compare values, not only keys.
            samples: the largest number of examples of each difference.

        Returns:
            One entry for each table, parents first.
        """

    def close(self) -> None:
        """Drop what is staged and not committed. May be called twice."""
