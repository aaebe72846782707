"""Writes what a run reports into the store, a few times a second, and wakes those who wait for it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

from typing_extensions import override

from ..core.records.column_records import value_at
from ..core.runs import ResolvedRun, TableProgress
from ..core.runs.events import DeletedKeys, Level, Listener
from ..core.shaping import Change, Reject
from ..core.sources.requests_seen import RequestSeen
from ..core.warehouses import LedgerLine
from ..store import Store, journal, requests, runs
from ..store.database import connect, now_text

# People see progress move at this pace; a transaction each time costs 30 microseconds.
_FLUSH_SECONDS = 0.2
# How fast it went is drawn from so many moments; where there are more, every second one is let go.
_MOST_SAMPLES = 240
_SAMPLE_SECONDS = 0.2


class StoreListener(Listener):
    """See core.runs.events.Listener. Called from the run's and the reader's threads; `_lock` guards everything."""

    def __init__(self, store: Store, run: int, told: Callable[[], None]) -> None:
        self._store = store
        self._run = run
        self._told = told
        self._lock = threading.Lock()
        self._connection = connect(store.path)
        self._lines: list[tuple[Any, ...]] = []
        self._number = journal.next_number(store, run)
        self._requests: list[tuple[str, str, RequestSeen]] = []
        self._asked = 1
        self._places: dict[tuple[str, str], int] = {}
        self._changed: dict[tuple[str, str], TableProgress] = {}
        self._warehouse = ""
        self._feed = ""
        self._flushed = 0.0
        self._began = time.monotonic()
        self._all: dict[tuple[str, str], TableProgress] = {}
        self._samples: list[tuple[float, int, int]] = []
        self._spacing = _SAMPLE_SECONDS
        # What was told shows soon, though the source may let everybody wait before there is more to tell.
        self._closed = threading.Event()
        threading.Thread(target=self._flush_what_waits, name=f"run {run}: its log", daemon=True).start()

    def begin(self, order: ResolvedRun) -> None:
        """The run is resolved."""
        with self._lock:
            self._warehouse, self._feed = order.warehouse.warehouse, order.feed
            begun = [TableProgress(t.name, t.target) for t in order.tables]
            self._places = {(one.table, one.warehouse): place for place, one in enumerate(begun)}
            self._changed = {(one.table, one.warehouse): one for one in begun}
            self._began = time.monotonic()
            tables = f": {len(order.tables)} tables" if order.tables else ""
            self._line("info", "run.started", f"feed {order.feed}, version {order.feed_version}{tables}")
            self._flush()

    @override
    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        with self._lock:
            self._line(level, code, message, table)
            self._flush_when_due()

    @override
    def request(self, table: str, seen: RequestSeen) -> None:
        """Requests are stored separately; those that failed are in the log too."""
        with self._lock:
            self._requests.append((now_text(), table, seen))
            if not seen.problem:
                self._flush_when_due()
                return
            words = f"{seen.method} {seen.url} → {seen.status or 'no answer'}: {seen.problem}"
            if seen.pause_seconds:
                words += f"; again in {seen.pause_seconds:.1f} s ({seen.pause_reason})"
            self._line("warning", "request.failed", words, table, {"status": seen.status, "attempt": seen.attempt})
            self._flush()

    @override
    def progress(self, progress: TableProgress) -> None:
        with self._lock:
            # A database's tables are known once it is open.
            mark = (progress.table, progress.warehouse)
            self._places.setdefault(mark, len(self._places))
            self._changed[mark] = self._all[mark] = progress
            if progress.waiting:
                self._flush()  # nothing else may happen for a while
            else:
                self._flush_when_due()

    @override
    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        place, name = f"{warehouse}: " if warehouse else "", warehouse or self._warehouse
        with self._lock:
            for reject in rejects[:5]:
                self._line("warning", reject.code, f"{place}rejected: {reject.field or 'record'}: {reject.message}", table)
            if len(rejects) > 5:
                self._line(
                    "warning",
                    "rejects.more",
                    f"{place}{len(rejects) - 5} more rejects in this batch; see `reed rejects`",
                    table,
                )
            self._flush(lambda connection: journal.save_rejects(connection, self._feed, name, self._run, table, rejects))

    @override
    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        name = warehouse or self._warehouse
        with self._lock:
            forgotten = journal.drop_unseen_rejects(self._connection, self._feed, name, self._run, table)
            if forgotten:
                words = f"{forgotten} earlier rejects no longer exist at the source as they were, and were dropped"
                self._line("info", "rejects.dropped", f"{warehouse}: {words}" if warehouse else words, table)
                self._flush()

    @override
    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        name = warehouse or self._warehouse
        with self._lock:
            held = journal.rejected_until(self._connection, self._feed, name, self._run, table)
            if not held:
                return  # nearly always, so that no key is looked at
            left = keys() if keys is not None else None
            ids = [one for one, record in held if left is None or tuple(str(value_at(record, field)) for field in key) in left]
            if ids:
                journal.forget(self._connection, ids)
                words = f"{len(ids)} earlier rejects were deleted at the source, and were dropped"
                self._line("info", "rejects.dropped", f"{warehouse}: {words}" if warehouse else words, table)

    @override
    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        name = warehouse or self._warehouse
        with self._lock:
            self._flush(lambda connection: journal.save_drift(connection, self._feed, name, self._run, table, changes))

    @override
    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        place = f"{warehouse}: " if warehouse else ""
        with self._lock:
            for line in lines:
                counts = f"{line.inserted} inserted, {line.updated} updated, {line.unchanged} unchanged"
                if line.deleted:
                    counts += f", {line.deleted} deleted"
                if line.removed:
                    counts += f", {line.removed} removed"
                self._line(
                    "info",
                    "load.committed",
                    f"{place}load {line.load} into {line.table}: {line.read} read, {counts}",
                    line.source_table,
                )
            self._flush(lambda connection: journal.keep_ledger(connection, warehouse or self._warehouse, lines))

    def close(self) -> None:
        """Write everything; nothing more is accepted."""
        self._closed.set()
        with self._lock:
            self._flush()
            self._connection.close()

    def _flush_what_waits(self) -> None:
        """In a thread of its own."""
        while not self._closed.wait(_FLUSH_SECONDS):
            with self._lock:
                if not self._closed.is_set() and (self._lines or self._requests or self._changed):
                    self._flush_when_due()

    # All below: with the lock held

    def _line(self, level: str, code: str, message: str, table: str | None = None, data: Any = None) -> None:
        self._lines.append((now_text(), level, code, table, message, data))

    def _sample(self) -> bool:
        """Whether there is another moment to keep."""
        at = round(time.monotonic() - self._began, 2)
        if self._samples and at - self._samples[-1][0] < self._spacing:
            return False
        tables = [one for one in self._all.values() if not one.warehouse]
        self._samples.append((at, sum(t.read + t.repeated for t in tables), sum(t.source_bytes for t in tables)))
        if len(self._samples) > _MOST_SAMPLES:
            self._samples, self._spacing = self._samples[::2], self._spacing * 2
        # One that is over at once has nothing to draw.
        return len(self._samples) > 2

    def _flush_when_due(self) -> None:
        if time.monotonic() - self._flushed >= _FLUSH_SECONDS:
            self._flush()

    def _flush(self, also: Callable[[Any], None] | None = None) -> None:
        connection = self._connection
        connection.execute("begin immediate")
        try:
            journal.save_log(connection, self._run, self._number, self._lines)
            requests.keep(connection, self._run, self._asked, self._requests)
            runs.save_progress(connection, self._run, [(self._places[n], p) for n, p in self._changed.items()])
            if self._sample():
                runs.save_pace(connection, self._run, self._samples)
            if also:
                also(connection)
            connection.execute("commit")
        except BaseException:
            if connection.in_transaction:
                connection.execute("rollback")
            raise
        self._number += len(self._lines)
        self._asked += len(self._requests)
        self._lines, self._requests, self._changed = [], [], {}
        self._flushed = time.monotonic()
        self._told()
