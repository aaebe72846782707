"""One pass over one table, whatever kind the source is: what a run reads, from where, and what may be saved so far."""

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
    """The saved position, if it is still valid for the way in which changes are found now."""
    saved = state.cursor if state and not change.forget_cursor else None
    ways = {"cursor": ("time", "number", "text"), "full": ("tag",), "compare": ("tag",)}
    kinds = ways.get(table.by, (table.by,))
    return saved if saved is not None and saved.kind in (*kinds, "ranges") else None


class TableReader(ABC):
    """A kind of source implements `chunks`, `sample`, `cost` and `position`. Everything else has a default here.

    Attributes:
        tracker: follows the cursor; None if changes are found in another way.
        from_text: where reading begins, as people read it; None for the beginning.
        left_out: fields that are not requested at all.
        notes: lines for the run's log: (level, code, text).
        ended_notes: more such lines, once all chunks have come.
    """

    def __init__(self, saved: SavedCursor | None) -> None:
        """Start from a saved position.

        Args:
            saved: how far the table has been read; None for not at all.
        """
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
        """The records in the source's order; a queue if another thread is reading already.

        Raises:
            SourceError: the source cannot be read any further.
            RunCancelled: the run was cancelled.
        """

    @abstractmethod
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(the request or statement as people read it, the first records), for a plan."""

    @abstractmethod
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        """(records, requests) of the whole pass, estimated from its first chunk; None if nothing is known.

        Args:
            chunk: from `sample`.
            repeated: how many of its records were loaded before.
        """

    @abstractmethod
    def position(self, *, ended: bool) -> SavedCursor | None:
        """The cursor to commit with everything handed on so far; None if that is not safe.

        Args:
            ended: all chunks have come.
        """

    # What happens to it

    def begin(self) -> None:  # noqa: B027 - most have nothing to see to
        """Check, before a run reads chunks, that everything it needs exists.

        Raises:
            SourceError: something does not.
        """

    def share_chunks_of(self, leader: Self) -> None:
        """Use another reader's chunks instead of one's own. What that one finds out is known here too; the position stays one's own.

        Args:
            leader: a reader of the same table, which begins at the same position.
        """
        self._leader = leader

    def handed_on(self, mark: SavedCursor) -> None:
        """Note that everything up to the chunk with this mark has been handed on."""
        self._done = mark

    def committed(self, cursor: SavedCursor | None) -> None:  # noqa: B027 - most keep nothing
        """Note that the warehouse has everything up to a cursor; None if none was saved."""

    # What it knows of the pass

    @property
    def begins(self) -> Any:
        """Where the read begins. Two readers of one table with equal values bring the same records."""
        return (self._saved.kind, self._saved.value, self._saved.column) if self._saved is not None else None

    @property
    def cursor_from(self) -> Any:
        """The lower bound that the source was asked for; None for the beginning."""
        return None

    @property
    def can_commit(self) -> bool:
        """Whether what has come so far may be committed: every record before the position has been read."""
        return self._done is not None if self.tracker is None else self.tracker.in_order

    @property
    def has_progress(self) -> bool:
        """Whether the position has moved, even if there were no records."""
        position = self.position(ended=True)
        if position is None or position.kind == "tag":  # a tag says that an answer is known, not how far one has got
            return False
        return self._saved is None or position.value != self._saved.value

    @property
    def unchanged(self) -> bool:
        """Whether the source says that nothing has changed since the last run."""
        return False

    @property
    def lag(self) -> Lag | None:
        """How far the change log is ahead of what was read, once all chunks have come; None without a change log."""
        return None

    def file_lines(self) -> Sequence[FileLine]:
        """What the next commit records about files; empty for other sources."""
        return ()

    def problem(self) -> ReedError | None:
        """Why the table counts as failed although everything else is committed; None if it does not."""
        return None

    # What it knows of the records

    @property
    def is_cdc(self) -> bool:
        """Whether the records are ChangeRecords: changes to rows, some of them deletes."""
        return False

    @property
    def reads_everything(self) -> bool:
        """Whether everything is read, so that rows not among it no longer exist, whatever the write mode."""
        return False

    @property
    def commits_only_large_loads(self) -> bool:
        """Whether to commit before the end only when enough rows are staged, however long that takes."""
        return False

    @property
    def flat(self) -> bool:
        """Whether no record holds objects or lists, so that there are no child tables."""
        return False

    @property
    def places_shift(self) -> bool:
        """Whether records are identified by positions in a list, which may change during the read."""
        return False
