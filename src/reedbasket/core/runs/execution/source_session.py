"""What a run needs of its source, whatever the source is: which tables it has, and a reader of each."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol

from ...changes.cursor import CursorTracker
from ...errors import ReedError
from ...masking import Mask
from ...records.bounded_queue import BoundedQueue
from ...records.position import SavedCursor
from ...shaping.fast_path import Expected
from ...sources.chunk import Chunk
from ...sources.sql.changelog import Lag
from ...warehouses.loader.file_list import FileLine
from ..planning.matched_tables import Held, MatchedTables
from ..planning.order import ResolvedRun, ResolvedTable
from .spool import Spool


class TableReader(Protocol):
    """One pass over one table: what a run reads of it, and from where.

    Attributes:
        tracker: how far the cursor has got; None where changes are found in another way.
        from_text: from where it reads, as people read it; None for the beginning.
        left_out: fields that are not even asked for.
        notes: for the run's log: (level, code, words).
        ended_notes: the same, once all chunks have been taken.
    """

    tracker: CursorTracker | None
    from_text: str | None
    left_out: frozenset[str]
    notes: Sequence[tuple[Any, str, str]]
    ended_notes: Sequence[tuple[Any, str, str]]

    @property
    def lag(self) -> Lag | None:
        """How far the change log was ahead of what was read, once all chunks came; None where none was followed."""

    @property
    def follows_log(self) -> bool:
        """Whether the records are LoggedRecords: changes of rows, some of them deletes."""

    @property
    def commits_rarely(self) -> bool:
        """Whether to commit on the way only where enough rows are staged, however long a part took."""

    @property
    def reads_all(self) -> bool:
        """Whether everything is read, so that what is not among it has gone, whatever the write mode."""

    @property
    def flat(self) -> bool:
        """Whether no record holds others, so that no child tables come."""

    @property
    def shifts(self) -> bool:
        """Whether records are told apart by where they lie in a list, which may move while it is read."""

    @property
    def begins(self) -> Any:
        """Where the read begins; equal for two readers of one table that bring the same."""

    def follow(self, leader: Any) -> None:
        """Take another reader's chunks in place of one's own. What that one finds out is known here too; the position stays one's own.

        Args:
            leader: a reader of the same table, which begins at the same place.
        """

    def begin(self) -> None:
        """See that all is there before a run takes chunks.

        Raises:
            SourceError: something is not.
        """

    def committed(self, cursor: SavedCursor | None) -> None:
        """The warehouse has everything up to a cursor; None where none was saved."""

    def chunks(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """The records in the source's order; a queue where another thread reads already.

        Raises:
            SourceError: the source cannot be read on.
            RunCancelled: the run was cancelled.
        """

    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(what is asked, as people read it; the first records), for a plan."""

    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        """(records, requests) that the whole pass will take, judged by its first chunk; None where nothing says.

        Args:
            chunk: what `sample` brought.
            repeated: how many of its records were loaded before.
        """

    def followed(self, mark: SavedCursor) -> None:
        """Everything up to a chunk with this mark has been handed on."""

    def position(self, *, ended: bool) -> SavedCursor | None:
        """The cursor to commit with everything handed on so far; None where that is not safe.

        Args:
            ended: all chunks have come.
        """

    def file_lines(self) -> Sequence[FileLine]:
        """What the next commit says of files; nothing of other sources."""

    def problem(self) -> ReedError | None:
        """Why the table does not count as read, though all else of it is committed; None where it does."""

    @property
    def cursor_from(self) -> Any:
        """The lower bound that the source was asked for; None for the beginning."""

    @property
    def unchanged(self) -> bool:
        """Whether the source says that nothing has changed since the last time."""

    @property
    def safe(self) -> bool:
        """Whether what has come so far may be committed by itself: every record before the position has been read."""

    @property
    def moved(self) -> bool:
        """Whether something was passed over that is not to be asked for again, records or none."""


@dataclass(frozen=True)
class ReadStart:
    """Where a read of a table begins, and what is known of the table already.

    Attributes:
        saved: how far the table has been read; None for not at all.
        until: windows are read to here; None for the run's start.
        expected: gives the columns in which records are to be read, once they are known; None where records come one by one.
        held: what the warehouse has of the table; of files needed to tell which are new.
    """

    saved: SavedCursor | None = None
    until: datetime | None = None
    expected: Callable[[], Expected | None] | None = None
    held: Held | None = None


class SourceSession(Protocol):
    """A source opened for one run. To be closed by whoever opened it.

    Attributes:
        mask: blanks the source's secrets.
    """

    mask: Mask

    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        """The order with its tables as they are at the source. Raises SourceError."""

    def open_reader(self, table: ResolvedTable, start: ReadStart) -> TableReader:
        """A reader of one table, for one pass over it.

        Args:
            table: as the feed reads it.
            start: where the read begins.
        """

    def begin(self, reader: TableReader) -> None:
        """Prepare a reader of this session before its chunks are taken.

        Raises:
            SourceError: what it needs is not there.
        """
        reader.begin()

    def chunks(self, reader: TableReader) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """What a reader of this session brings."""
        return reader.chunks()

    def has_dependents(self, table: str) -> bool:
        """Whether other tables ask by this one's records, so that they are put aside."""

    def keep(self, table: str, since: Any, spool: Spool) -> None:
        """Put a table's records aside for the tables that are read by them.

        Args:
            table: its name.
            since: the cursor's value from which they were read.
            spool: the records.
        """

    def acknowledge(self) -> None:
        """At the end of a run, tell the source that it may let go of what the warehouse has.

        Raises:
            SourceError: it cannot be told.
        """

    def close(self) -> None:
        """Let go of the source. May be called twice."""
