"""One table of one run: what was taken of it, and its commits."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

from ...changes.cursor import CursorTracker
from ...errors import RunCancelled
from ...records.bounded_queue import BoundedQueue
from ...shaping.columns import ColumnWork
from ...shaping.rules import Change
from ...shaping.selection import key_batch
from ...shaping.shaper import Shaper
from ...shaping.unchanged_values import UnchangedValues
from ...sources.chunk import Chunk
from ...warehouses.loader.write_mode_migration import Transition
from ...warehouses.warehouse import Load, LoadTarget, Warehouse
from ..checkpoints.resume import shaper_for
from ..events import Listener, TableProgress
from ..planning.order import ResolvedRun, ResolvedTable
from ..planning.requested_window import requested_window
from ..request_context import RunContext
from .compare import Comparer, gone_keys
from .completion import closing_notes, notes_of, require_some_good, target_of
from .load_counts import SinceCommit
from .replay import Replayed
from .source_session import SourceSession, TableReader
from .spool import Spool

# A load of several passes commits what it has this often, where a pass has just ended.
_COMMIT_SECONDS = 2.0


class TableCommits:
    """What a table's run works with, and how it commits. What is only declared here is there once the run has begun."""

    _shaper: Shaper
    _reader: TableReader
    _tracker: CursorTracker | None
    _compare: Comparer | None
    _columns: ColumnWork
    _change: Transition
    _gone: Callable[[Any], bool] | None
    _aside: Spool | None
    _reads_all: bool
    _load: Load
    _at_commit: dict[str, Any]
    _committed: float

    def __init__(  # noqa: PLR0913 - what a run of a table is made of
        self,
        order: ResolvedRun,
        table: ResolvedTable,
        warehouse: Warehouse,
        reading: SourceSession,
        hash_key: Callable[[], bytes],
        listener: Listener,
        context: RunContext,
        clock: Callable[[], datetime],
        progress: TableProgress,
        again: Replayed | None = None,
    ) -> None:
        """again: records that were rejected before, to be taken in place of the source's."""
        self._again = again
        self._window = requested_window(order, table) if again is None else None
        self._moves_cursor = again is None and self._window is None and not order.apart
        self._order = order
        self._table = table
        self._warehouse = warehouse
        self._reading = reading
        self._hash_key = hash_key
        self._listener = listener
        self._stop, self._wind_up = context.stop, context.wind_up
        self._clock = clock
        self.progress = progress
        self._at_commit = progress.counts()
        self._begin_anew()

    def _begin_anew(self) -> None:
        """As before the first record, or behind the last commit."""
        for name, value in self._at_commit.items():
            setattr(self.progress, name, value)
        self._since = SinceCommit(self._clock())
        self._owner = 0
        self._tracker = None
        self._differing: list[Sequence[dict[str, Any]]] = []
        self._suspicious = False
        self._kept = UnchangedValues()
        self._handed: BoundedQueue[Chunk] = BoundedQueue()
        self._cursor_from: str | None = None

    def _start_over(self) -> None:
        """From the last commit on: nothing of what was staged since stays."""
        self._load.close()
        state = self._warehouse.state(self._order.feed, self._table.name)
        self._shaper = shaper_for(self._order, self._table, state, again=self._again is not None)
        self._load = self._warehouse.begin(self._target, state)
        for name, value in self._at_commit.items():
            setattr(self.progress, name, value)
        self._since, self._owner = SinceCommit(self._clock()), 0

    def _tell_changes(self, changes: list[Change]) -> None:
        if not changes:
            return
        for note in notes_of(changes, drifted=self._shaper.expected):
            self._log(*note)
        if self._shaper.expected:
            self._listener.drift(self._table.name, changes)

    def _may_commit(self, chunk: Chunk) -> bool:
        """On the way only where the position is safe: every record below it has been read, and none beyond it is staged."""
        if self._change.reloads_children or not self._reader.safe or not self._moves_cursor or self._reads_all:
            return False
        if self._load.staged_rows >= self._order.commit_every or self._wind_up.is_set():
            return self._tracker is not None or chunk.mark is not None
        if self._reader.commits_rarely:
            return False
        # Passes that take long each are kept as they come: a run that is cut goes on behind them.
        return chunk.mark is not None and time.monotonic() - self._committed >= _COMMIT_SECONDS

    def _finish(self) -> None:
        progress, load = self.progress, self._load
        if self._reader.unchanged:
            self._log("info", "table.unchanged", "the source answered that nothing changed since the last run")
            self._phase("done")
            return
        if self._stop.is_set():
            raise RunCancelled("loading", self._table.name, found="the run was cancelled; what was committed stays")
        if self._again is None:
            require_some_good(self._order, self._table.name, progress)
        for note in closing_notes(progress, self._shaper):
            self._log(*note)
        structure_moved = False
        if progress.read:
            vanished = self._shaper.compare_with_expected()
            self._tell_changes(vanished)
            structure_moved = bool(vanished)
        gone = self._find_gone()
        if (
            load.staged_rows
            or self._since.rejected
            or gone
            or structure_moved
            or (self._change.needed and self._again is None)
            or (self._since.unchanged and self._compare and not self._compare.compared)
            or (self._complete and self._table.write in ("replace", "mirror", "history") and not self._compare)
            or (self._again is None and self._reader.moved and self._tracker is None)
            or self._window is not None
        ):
            self._commit(ended=True)
        if self._table.removes and self._again is None and not self._order.apart:
            self._listener.all_met(self._table.name)
        self._phase("done")

    def _find_gone(self) -> bool:
        """After a compare: the keys of what the source no longer shows, handed to the load."""
        family = self._columns.lay_out(self._shaper.family)
        found = gone_keys(self._compare, self._table, family, self._warehouse) if self._compare else []
        if found:
            self._load.gone(key_batch(family, found))
        return bool(found)

    def _commit(self, *, ended: bool) -> None:
        self._phase("committing")
        load, since = self._load, self._since
        cursor = self._reader.position(ended=ended) if self._moves_cursor else None
        position = since.position(
            cursor,
            self._cursor_from,
            self._handed.reading_seconds,
            forget_cursor=self._change.forget_cursor,
            hashes=self._compare.hashes_to_keep() if self._compare else None,
            files=self._reader.file_lines() if self._again is None else (),
            window=self._window,
        )
        family = self._columns.lay_out(self._shaper.family)
        lines = load.commit(family, self._shaper.structure.to_data(), position, self._clock())
        for note in load.notes:
            self._log("info", "table.brought_along", note)
        load.notes.clear()
        for name in ("inserted", "updated", "deleted", "unchanged"):
            # Compared and unchanged ones were counted as they came.
            before = since.unchanged if name == "unchanged" else 0
            setattr(self.progress, name, getattr(self.progress, name) + getattr(lines[0], name) - before)
        self.progress.cursor_to = lines[0].cursor_to
        self._listener.loaded(lines)
        self._since = SinceCommit(self._clock(), read_before=self._handed.reading_seconds)
        self._owner, self._change = 0, Transition(forget_cursor=False, reloads_children=self._change.reloads_children)
        self._committed = time.monotonic()
        self._kept.committed()
        self._at_commit = self.progress.counts()
        if self._again is None:
            self._reader.committed(cursor)
        if cursor is not None and cursor.kind != "tag":
            self._cursor_from = cursor.shown
        self._phase("reading")

    @property
    def _target(self) -> LoadTarget:
        again = self._again is not None
        # A compare says by itself what has gone, once it has something to compare with.
        complete = self._complete and not (self._compare and self._compare.compared)
        tombstones = self._gone is not None or (not again and self._reader.follows_log)
        flat = not again and self._reader.flat
        return target_of(
            self._order,
            self._table,
            complete=complete,
            again=again,
            tombstones=tombstones,
            reads_all=self._reads_all,
            flat=flat,
        )

    @property
    def _complete(self) -> bool:
        return self._table.complete and self._again is None

    def _phase(self, phase: Any) -> None:
        self.progress.phase = phase
        self._listener.progress(self.progress)

    def _log(self, level: Any, code: str, message: str) -> None:
        self._listener.log(level, code, message, self._table.name)
