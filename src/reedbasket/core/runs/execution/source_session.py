"""What a run needs of its source, whatever the source is: which tables it has, and a reader of each."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
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
        """How far the log was ahead that it followed, once all chunks have been taken."""

    @property
    def follows_log(self) -> bool:
        """The records are LoggedRecords: changes of rows, and of some that they are gone."""

    @property
    def commits_rarely(self) -> bool:
        """What was taken is committed on the way only where enough rows are staged, and not where a part took long."""

    @property
    def reads_all(self) -> bool:
        """Everything is read: what is not among it has gone, whatever the way of writing."""

    @property
    def flat(self) -> bool:
        """No record holds others, so that no child tables come."""

    @property
    def shifts(self) -> bool:
        """Records are told apart by where they lie in a list, which may move while it is read."""

    @property
    def begins(self) -> Any:
        """Equal for passes of one table that bring the same."""

    def follow(self, leader: Any) -> None:
        """Take no chunks of one's own: those of another pass, which began at the same place, are this one's. What that one finds out on
        the way is known here too; how far this one has got stays its own."""

    def begin(self) -> None:
        """Before a run takes chunks: what has to be there for it. Raises SourceError."""

    def committed(self, cursor: SavedCursor | None) -> None:
        """The warehouse has everything up to here."""

    def chunks(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """The records in the source's order; a queue where another thread reads already. Raises SourceError, RunCancelled."""

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
        """The cursor to commit with everything handed on so far; None where that is not safe. ended: all chunks have come."""

    def file_lines(self) -> Sequence[FileLine]:
        """What the next commit says of files; nothing of other sources."""

    def problem(self) -> ReedError | None:
        """Why the table does not count as taken, though all else of it is committed."""

    @property
    def cursor_from(self) -> Any:
        """The lower bound that the source was asked for; None for the beginning."""

    @property
    def unchanged(self) -> bool:
        """The source says that nothing has changed since the last time: what is loaded stays as it is."""

    @property
    def safe(self) -> bool:
        """What has come so far may be committed by itself: every record before the position has been read."""

    @property
    def moved(self) -> bool:
        """Something was passed over that is not to be asked for again, records or none."""


class SourceSession(Protocol):
    """To be closed by whoever opened it. mask: blanks the source's secrets."""

    mask: Mask

    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        """The order with its tables as they are at the source. Raises SourceError."""

    def take(
        self,
        table: ResolvedTable,
        saved: SavedCursor | None,
        *,
        expected: Callable[[], Expected | None] | None = None,
        until: datetime | None = None,
        latest: bool = False,
        held: Held | None = None,
    ) -> TableReader:
        """A pass over one table.

        Args:
            table: as the feed takes it.
            saved: how far it has been read; None for not at all.
            expected: the columns in which its records are to be read, once they are known.
            until: windows are read to here; to the run's start where it is None.
            latest: only the last window.
            held: what the warehouse has of it already; of files needed to tell which are new.
        """

    def begin(self, reader: TableReader) -> None:
        """Before chunks are taken of a reader of this session. Raises SourceError."""
        reader.begin()

    def chunks(self, reader: TableReader) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """What a reader of this session brings."""
        return reader.chunks()

    def has_dependents(self, table: str) -> bool:
        """Whether other tables ask by this one's records, so that they are put aside."""

    def keep(self, table: str, since: Any, spool: Spool) -> None:
        """Put a table's records aside for those that ask by them. since: from where they were read."""

    def acknowledge(self) -> None:
        """At the end of a run: the source may let go of what was kept for us and is in the warehouse. Raises SourceError."""

    def close(self) -> None:
        """Let go of the source. May be called twice."""
