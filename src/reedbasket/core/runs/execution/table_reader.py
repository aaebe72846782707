"""One pass over one table, whatever the source is: what a run reads of it, from where, and what may be saved of it so far."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from typing import Any, Self

from ...changes.cursor import CursorTracker
from ...errors import ReedError
from ...records.bounded_queue import BoundedQueue
from ...records.position import SavedCursor
from ...sources.chunk import Chunk
from ...sources.sql.changelog import Lag
from ...warehouses.loader.file_list import FileLine
from ...warehouses.loader.write_mode_migration import Transition
from ...warehouses.warehouse import TableState
from ..planning.order import ResolvedTable


def saved_of(table: ResolvedTable, state: TableState | None, change: Transition) -> SavedCursor | None:
    """What was saved, as far as it means something for the way in which changes are found now."""
    saved = state.cursor if state and not change.forget_cursor else None
    ways = {"cursor": ("time", "number", "text"), "full": ("tag",), "compare": ("tag",)}
    kinds = ways.get(table.by, (table.by,))
    return saved if saved is not None and saved.kind in (*kinds, "ranges") else None


class TableReader(ABC):
    """What a kind of source has to say is `chunks`, `sample`, `cost` and `position`. All else it may know of its records has an answer
    here, which holds where it says nothing.

    Attributes:
        tracker: how far the cursor has got; None where changes are found in another way.
        from_text: from where it reads, as people read it; None for the beginning.
        left_out: fields that are not even asked for.
        notes: for the run's log: (level, code, words).
        ended_notes: the same, once all chunks have been taken.
    """

    def __init__(self, saved: SavedCursor | None) -> None:
        """saved: how far the table has been read; None for not at all."""
        self.tracker: CursorTracker | None = None
        self.from_text: str | None = None
        self.left_out: frozenset[str] = frozenset()
        self.notes: list[tuple[Any, str, str]] = []
        self.ended_notes: list[tuple[Any, str, str]] = []
        self._saved = saved
        # The mark of the last chunk that was handed on.
        self._done: SavedCursor | None = None
        # The reader that reads: itself, or another of the same table.
        self._leader: Self = self  # type: ignore[assignment]

    @abstractmethod
    def chunks(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """The records in the source's order; a queue where another thread reads already.

        Raises:
            SourceError: the source cannot be read on.
            RunCancelled: the run was cancelled.
        """

    @abstractmethod
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(what is asked, as people read it; the first records), for a plan."""

    @abstractmethod
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        """(records, requests) that the whole pass will take, judged by its first chunk; None where nothing says.

        Args:
            chunk: what `sample` brought.
            repeated: how many of its records were loaded before.
        """

    @abstractmethod
    def position(self, *, ended: bool) -> SavedCursor | None:
        """The cursor to commit with everything handed on so far; None where that is not safe.

        Args:
            ended: all chunks have come.
        """

    # What happens to it

    def begin(self) -> None:  # noqa: B027 - most have nothing to see to
        """See that all is there before a run takes chunks.

        Raises:
            SourceError: something is not.
        """

    def follow(self, leader: Self) -> None:
        """Take another reader's chunks in place of one's own. What that one finds out is known here too; the position stays one's own.

        Args:
            leader: a reader of the same table, which begins at the same place.
        """
        self._leader = leader

    def followed(self, mark: SavedCursor) -> None:
        """Everything up to a chunk with this mark has been handed on."""
        self._done = mark

    def committed(self, cursor: SavedCursor | None) -> None:  # noqa: B027 - most keep nothing
        """The warehouse has everything up to a cursor; None where none was saved."""

    # What it knows of the pass

    @property
    def begins(self) -> Any:
        """Where the read begins; equal for two readers of one table that bring the same."""
        return (self._saved.kind, self._saved.value, self._saved.column) if self._saved is not None else None

    @property
    def cursor_from(self) -> Any:
        """The lower bound that the source was asked for; None for the beginning."""
        return None

    @property
    def safe(self) -> bool:
        """Whether what has come so far may be committed by itself: every record before the position has been read."""
        return self._done is not None if self.tracker is None else self.tracker.in_order

    @property
    def moved(self) -> bool:
        """Whether something was passed over that is not to be asked for again, records or none."""
        position = self.position(ended=True)
        if position is None or position.kind == "tag":  # a tag says that an answer is known, not how far one has got
            return False
        return self._saved is None or position.value != self._saved.value

    @property
    def unchanged(self) -> bool:
        """Whether the source says that nothing has changed since the last time."""
        return False

    @property
    def lag(self) -> Lag | None:
        """How far the change log was ahead of what was read, once all chunks came; None where none was followed."""
        return None

    def file_lines(self) -> Sequence[FileLine]:
        """What the next commit says of files; nothing of other sources."""
        return ()

    def problem(self) -> ReedError | None:
        """Why the table does not count as read, though all else of it is committed; None where it does."""
        return None

    # What it knows of the records

    @property
    def follows_log(self) -> bool:
        """Whether the records are LoggedRecords: changes of rows, some of them deletes."""
        return False

    @property
    def reads_all(self) -> bool:
        """Whether everything is read, so that what is not among it has gone, whatever the write mode."""
        return False

    @property
    def commits_rarely(self) -> bool:
        """Whether to commit on the way only where enough rows are staged, however long a part took."""
        return False

    @property
    def flat(self) -> bool:
        """Whether no record holds others, so that no child tables come."""
        return False

    @property
    def shifts(self) -> bool:
        """Whether records are told apart by where they lie in a list, which may move while it is read."""
        return False
