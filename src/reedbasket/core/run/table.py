"""One table of one run: read, take what is new, shape, stage, commit."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from ..errors import DefinitionError, RunCancelled
from ..extract.chunk import Chunk
from ..extract.http import HttpReader, Sender
from ..load.warehouse import Load, LoadTarget, Position, SavedCursor, TableState, Warehouse
from ..shape.shaper import Reject, Shaper
from ..shape.structure import TableShape
from ..spec import template
from .cursor import CursorTracker
from .events import Listener, TableProgress
from .feeder import Feeder
from .order import RunOrder, TableOrder

# Shaping works on whole columns; below about 2,000 records its fixed costs show, above it only memory grows.
RECORDS_PER_BATCH = 2_000


def first_state(order: RunOrder, table: TableOrder, warehouse: Warehouse) -> TableState | None:
    """What the warehouse knows of the table. Raises DefinitionError where it was written in a way that does not go on."""
    state = warehouse.state(order.feed, table.name)
    if state and (state.link != table.link or state.key != table.key):
        before = f"key {', '.join(state.key) or 'none'}, children linked by {state.link}"
        now = f"key {', '.join(table.key) or 'none'}, children linked by {table.link}"
        raise DefinitionError(
            "taking up the table",
            table.target,
            found=f"it was loaded with {before}; the definition now means {now}",
            mend="keep key and way of writing, or give the feed another `prefix` to load anew beside it",
            code="definition.write_changed",
        )
    return state


def tracker_for(order: RunOrder, table: TableOrder, state: TableState | None, values: dict[str, Any]) -> CursorTracker | None:
    rule = table.rule.cursor
    if table.by != "cursor" or rule is None:
        return None
    start = template.fill(rule.start, values) if rule.start else None
    saved = state.cursor if state else None
    return CursorTracker(rule, saved, start, order.started, keep_all_seen=table.write == "append")


class TableRun:
    """Runs one table to its end. `progress` is kept up to date throughout."""

    def __init__(
        self,
        order: RunOrder,
        table: TableOrder,
        warehouse: Warehouse,
        sender: Sender,
        values: dict[str, Any],
        listener: Listener,
        stop: threading.Event,
        clock: Callable[[], datetime],
        progress: TableProgress,
    ) -> None:
        self._order = order
        self._table = table
        self._warehouse = warehouse
        self._sender = sender
        self._listener = listener
        self._stop = stop
        self._clock = clock
        self.progress = progress
        self._values = values
        self._rejects: list[Reject] = []
        self._repeated = 0
        self._bytes = 0
        self._owner = 0
        self._load_started = clock()
        self._cursor_from: str | None = None

    def run(self) -> None:
        """Raises ReedError; what was committed before stays."""
        state = first_state(self._order, self._table, self._warehouse)
        tracker = tracker_for(self._order, self._table, state, self._values)
        if tracker:
            self._values = self._values | {"cursor.from": tracker.request_from}
            self._cursor_from = self.progress.cursor_from = tracker.from_text
        structure = state.structure.copy() if state else TableShape(self._table.target)
        shaper = Shaper(structure, self._table.key, self._table.link)
        reader = HttpReader(self._table.name, self._filled_base(), self._table.rule, self._sender, self._values)
        load = self._warehouse.begin(self._target(), state)
        self._phase("reading")
        began = time.monotonic()
        try:
            with Feeder(reader.chunks(), f"{self._order.feed}.{self._table.name}") as feeder:
                for chunk in _gathered(feeder):
                    self.progress.seconds = time.monotonic() - began
                    self._take(chunk, tracker, shaper, load)
                    if self._may_commit(tracker, load):
                        self._commit(load, shaper.structure, tracker.position() if tracker else None)
            self._finish(load, shaper, tracker)
        finally:
            self.progress.seconds = time.monotonic() - began
            load.close()

    def _take(self, chunk: Chunk, tracker: CursorTracker | None, shaper: Shaper, load: Load) -> None:
        if self._stop.is_set():
            raise RunCancelled("reading", self._table.name, found="the run was cancelled; what was committed stays")
        progress, records = self.progress, chunk.records
        progress.expected = chunk.total if progress.expected is None else progress.expected
        self._bytes += chunk.body_bytes
        rejects = [
            Reject(-1, "record.not_an_object", f"found {type(m).__name__} in the list of records", "", m) for m in chunk.misfits
        ]
        if tracker:
            was_in_order = tracker.in_order
            taken = tracker.take(records)
            records = taken.records
            rejects += taken.rejects
            self._repeated += taken.repeated
            progress.repeated += taken.repeated
            progress.held_back += taken.held_back
            if was_in_order and not tracker.in_order:
                self._log(
                    "warning",
                    "cursor.not_sorted",
                    "records do not come in the order that `sorted` promises; this run commits only at its end",
                )
        shaped = shaper.shape(records, self._owner, suspicious=chunk.suspicious)
        self._owner += shaped.records
        for words in shaped.learned:
            self._log("info", "structure.learned", words)
        rejects += shaped.rejects
        progress.read += len(records) + len(rejects) - len(shaped.rejects)
        progress.rejected += len(rejects)
        self._rejects += rejects
        if rejects:
            self._listener.rejects(self._table.name, rejects)
        load.stage(shaped.batches)
        progress.staged += shaped.records
        self._listener.progress(progress)

    def _may_commit(self, tracker: CursorTracker | None, load: Load) -> bool:
        """On the way only where the position is safe: every record below it has been read."""
        return tracker is not None and tracker.in_order and load.staged_rows >= self._order.commit_every

    def _finish(self, load: Load, shaper: Shaper, tracker: CursorTracker | None) -> None:
        progress = self.progress
        if self._stop.is_set():
            raise RunCancelled("loading", self._table.name, found="the run was cancelled; what was committed stays")
        unseen = shaper.structure.unseen()
        if unseen and progress.read:
            self._log("info", "structure.only_nulls", f"only nulls so far, no column made yet: {', '.join(unseen)}")
        if progress.held_back:
            self._log(
                "warning",
                "cursor.held_back",
                f"{progress.held_back} records changed after this run began, by the source's clock; the next run takes them",
            )
        if load.staged_rows or self._rejects or self._table.write == "replace":
            self._commit(load, shaper.structure, tracker.position() if tracker else None)
        self._phase("done")

    def _commit(self, load: Load, structure: TableShape, cursor: SavedCursor | None) -> None:
        self._phase("committing")
        staged = load.staged_rows
        position = Position(cursor, self._cursor_from, len(self._rejects), self._repeated, self._bytes, self._load_started)
        lines = load.commit(structure, position, self._clock())
        self.progress.loaded += staged
        self.progress.cursor_to = lines[0].cursor_to
        self._listener.loaded(lines)
        self._rejects, self._repeated, self._bytes = [], 0, 0
        self._owner, self._load_started = 0, self._clock()
        if cursor is not None:
            self._cursor_from = cursor.value
        self._phase("reading")

    def _target(self) -> LoadTarget:
        order, table = self._order, self._table
        cursor = table.rule.cursor.column if table.rule.cursor else None
        return LoadTarget(
            order.run, order.feed, order.source, table.name, table.target, table.write, table.key, table.link, cursor
        )

    def _filled_base(self) -> str:
        return template.fill(self._order.base, self._values) or ""

    def _phase(self, phase: Any) -> None:
        self.progress.phase = phase
        self._listener.progress(self.progress)

    def _log(self, level: Any, code: str, message: str) -> None:
        self._listener.log(level, code, message, self._table.name)


def _gathered(chunks: Feeder) -> Iterator[Chunk]:
    """Pages joined to batches worth shaping. Nothing waits: what has been read when the source pauses is passed on."""
    records: list[dict[str, Any]] = []
    misfits: list[Any] = []
    size, suspicious, total = 0, False, None
    for chunk in chunks:
        records += chunk.records
        misfits += chunk.misfits
        size += chunk.body_bytes
        suspicious = suspicious or chunk.suspicious
        total = chunk.total if total is None else total
        if len(records) >= RECORDS_PER_BATCH:
            yield Chunk(records, size, misfits, total, suspicious)
            records, misfits, size, suspicious = [], [], 0, False
    if records or misfits or size:
        yield Chunk(records, size, misfits, total, suspicious)
