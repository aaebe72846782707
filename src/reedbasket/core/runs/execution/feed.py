"""One run of one feed: its tables in order, each to its end."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from ... import errors
from ...masking import Mask
from ...shaping import Change, Reject
from ...sources.pace import Wait
from ...sources.requests_seen import RequestSeen
from ...warehouses import LedgerLine, Warehouse, open_warehouse
from ..events import Gone, Level, Listener, RunOutcome, TableProgress
from ..planning.matched_tables import MatchedTables
from ..planning.order import ResolvedRun, ResolvedTable
from ..planning.table_drift import as_drift, as_missing, missing_tables, new_tables
from ..request_context import RunContext
from .replay import Again, Replayed
from .shared_reader import SharedSession, SharedTable
from .source_session import SourceSession, open_session
from .table_run import TableRun

# Errors after which the other tables would meet the same: the source as a whole, or the warehouse.
_ENDS_THE_RUN = (
    errors.SourceUnreachable,
    errors.SourceRefused,
    errors.SourceTimedOut,
    errors.SourceBusy,
    errors.SourceResting,
    errors.QuotaUsed,
    errors.SignInFailed,
    errors.SignInNeeded,
    errors.WarehouseBusy,
    errors.RunCancelled,
    errors.RunWoundUp,
)


@dataclass(frozen=True)
class RunResult:
    """How a run ended. error: the first one's facts, masked."""

    outcome: RunOutcome
    tables: list[TableProgress]
    error: dict[str, Any] | None


def run_feed(
    order: ResolvedRun,
    context: RunContext,
    *,
    listener: Listener,
    clock: Callable[[], datetime],
    again: Again | None = None,
) -> RunResult:
    """Run every table of the order. again: records that were rejected before, taken in place of the source's by
    the warehouse that rejected them. Raises nothing but defects of ours."""
    progresses = [TableProgress(t.name, t.target) for t in order.tables]
    first: errors.ReedError | None
    mask = Mask()
    heard = _Recorder(listener)
    try:
        reading = open_session(order, context, heard.request, heard.wait)
        mask = reading.mask
        try:
            others = [reading.match_tables(other) for other in order.others]
            match_tables = reading.match_tables(order)
            progresses = [TableProgress(t.name, t.target) for t in match_tables.order.tables]
            progresses += [TableProgress(name, "") for name in match_tables.problems]
            into = [_Into(other.order, listener) for other in others]
            progresses += [progress for one in into for progress in one.progresses]
            for progress in progresses:
                listener.progress(progress)
            for note in match_tables.notes:
                listener.log(*note)
            if again is None:
                first = _run_tables(match_tables, progresses, reading, context, listener, clock, None, heard, into)
            else:
                first = None
                # Each takes what itself rejected, one after the other.
                for other, told, shown in zip(
                    (match_tables, *others), (listener, *into), (progresses, *(i.progresses for i in into))
                ):
                    name = other.order.warehouse.warehouse
                    own = {table: held for (where, table), held in again.items() if where == name}
                    problem = _run_tables(other, shown, reading, context, told, clock, own, heard, [])
                    first = first or problem
            _settle(reading, listener)
        finally:
            reading.close()
    except errors.ReedError as error:
        first = mask.error(error)
        listener.log("error", first.code, str(first))
    for progress in progresses:
        if progress.phase == "waiting":
            progress.phase = "skipped"
            listener.progress(progress)
    if first is None:
        outcome = RunOutcome.SUCCEEDED
    elif isinstance(first, errors.RunCancelled):
        outcome = RunOutcome.CANCELLED
    elif isinstance(first, errors.RunWoundUp):
        outcome = RunOutcome.INTERRUPTED
    else:
        outcome = RunOutcome.FAILED
    return RunResult(outcome, progresses, first.as_dict() if first else None)


def _run_tables(
    match_tables: MatchedTables,
    progresses: list[TableProgress],
    reading: SourceSession,
    context: RunContext,
    listener: Listener,
    clock: Callable[[], datetime],
    again: Mapping[str, Replayed] | None,
    heard: _Recorder,
    into: Sequence[_Into],
) -> errors.ReedError | None:
    """The first error, after which the tables that do not depend on it still ran."""
    order = match_tables.order
    first: errors.ReedError | None = None

    def hash_key() -> bytes:
        return context.reveal(order.hash_with).encode()

    def failed(progress: TableProgress, error: errors.ReedError) -> None:
        nonlocal first
        reading.mask.error(error)
        first = first or error
        progress.phase, progress.error = "failed", error.as_dict()
        listener.progress(progress)
        level: Any = "warning" if isinstance(error, errors.RunCancelled | errors.RunWoundUp) else "error"
        place = f"{progress.warehouse}: " if progress.warehouse else ""
        listener.log(level, error.code, place + str(error), progress.table)

    warehouse: Warehouse | None = None
    problem: errors.ReedError | None = None
    try:
        warehouse = open_warehouse(order.warehouse, context.places, context.reveal)
    except errors.ReedError as error:
        if not into:
            raise
        problem = error  # told with each of its tables, as of the others; those are loaded all the same
    # What a warehouse's connection is used in is one thread, from its first load to its end.
    loader_thread = ThreadPoolExecutor(1, f"load {order.warehouse.warehouse}")
    for one in into:
        one.open(context)
    try:
        known = warehouse or next((other.warehouse for other in into if other.warehouse is not None), None)
        new = new_tables(order, known) if again is None and known is not None else []
        gone = missing_tables(order, known, match_tables.problems) if again is None and known is not None else []
        for name in gone:
            progress = TableProgress(name, "", phase="skipped")
            progresses.append(progress)
            missing = as_missing(order, name)
            if order.drift.missing_tables == "stop":
                failed(progress, missing)
            else:
                listener.log("warning", missing.code, f"{name}: {missing.found}", name)
                listener.progress(progress)
        for place, (table, progress) in enumerate(zip(order.tables, progresses)):
            if again is not None and table.name not in again:
                continue
            heard.progress = progress
            began = time.monotonic()
            records = again[table.name] if again else None
            try:
                if table in new:
                    change = as_drift(order, table)
                    listener.log("warning", "drift.table", change.words, table.name)
                    listener.drift(table.name, [change])
                    progress.phase = "skipped"
                    listener.progress(progress)
                    continue
                if into:
                    first_end = _One(order, table, warehouse, progress, listener, loader_thread, problem)
                    ends = [first_end, *(other.one(place) for other in into)]
                    _run_together(ends, reading, hash_key, context, clock)
                    for end in ends:
                        if end.error is not None:
                            end.progress.seconds = time.monotonic() - began
                            failed(end.progress, end.error)
                        else:
                            _summary(end.listener, end.progress)
                    over = [end.error for end in ends if isinstance(end.error, _ENDS_THE_RUN)]
                    if len(over) == len(ends) or any(
                        isinstance(error, errors.RunCancelled | errors.RunWoundUp) for error in over
                    ):
                        return first
                    continue
                assert warehouse is not None
                TableRun(
                    order, table, warehouse, reading, hash_key, listener, context, clock, progress, records
                ).run()  # fmt: skip
                _summary(listener, progress)
            except errors.ReedError as error:
                progress.seconds = time.monotonic() - began
                failed(progress, error)
                if isinstance(error, _ENDS_THE_RUN):
                    return first
        for progress in progresses[len(order.tables) :] if again is None else []:
            if progress.table in match_tables.problems and not progress.warehouse:
                failed(progress, match_tables.problems[progress.table])
    finally:
        if warehouse is not None:
            if into:
                loader_thread.submit(warehouse.close).result()
            else:
                warehouse.close()
        loader_thread.shutdown()
        for one in into:
            one.close()
    return first


def _settle(reading: SourceSession, listener: Listener) -> None:
    """All that is lost where this fails is time: the next run passes over what it is told again."""
    try:
        reading.acknowledge()
    except errors.ReedError as error:
        listener.log("warning", "log.not_moved_on", str(reading.mask.error(error)))


@dataclass
class _One:
    """One warehouse's part of a table. error: with which it ended, or why it is not even open."""

    order: ResolvedRun
    table: ResolvedTable
    warehouse: Warehouse | None
    progress: TableProgress
    listener: Listener
    loader_thread: ThreadPoolExecutor
    error: errors.ReedError | None = None


class _Into:
    """Another of the feed's warehouses, with what it is told of in the run's listener: all of it under its own name."""

    def __init__(self, order: ResolvedRun, listener: Listener) -> None:
        self._order = order
        self._listener = listener
        self._name = order.warehouse.warehouse
        self.progresses = [TableProgress(t.name, t.target, self._name) for t in order.tables]
        self.warehouse: Warehouse | None = None
        self._problem: errors.ReedError | None = None
        self._lane = ThreadPoolExecutor(1, f"load {self._name}")

    def open(self, context: RunContext) -> None:
        """What keeps it from being opened is told with each of its tables."""
        try:
            self.warehouse = open_warehouse(self._order.warehouse, context.places, context.reveal)
        except errors.ReedError as error:
            self._problem = error

    def close(self) -> None:
        if self.warehouse is not None:
            self._lane.submit(self.warehouse.close).result()
        self._lane.shutdown()

    def one(self, place: int) -> _One:
        table, progress = self._order.tables[place], self.progresses[place]
        return _One(self._order, table, self.warehouse, progress, self, self._lane, self._problem)

    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        self._listener.log(level, code, f"{self._name}: {message}", table)

    def request(self, table: str, seen: RequestSeen) -> None:
        self._listener.request(table, seen)

    def progress(self, progress: TableProgress) -> None:
        self._listener.progress(progress)

    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        self._listener.rejects(table, rejects, self._name)

    def all_met(self, table: str, warehouse: str = "") -> None:
        self._listener.all_met(table, self._name)

    def gone(self, table: str, key: Sequence[str], keys: Gone | None, warehouse: str = "") -> None:
        self._listener.gone(table, key, keys, self._name)

    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        self._listener.drift(table, changes, self._name)

    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        self._listener.loaded(lines, self._name)


def _run_together(
    ends: Sequence[_One],
    reading: SourceSession,
    hash_key: Callable[[], bytes],
    context: RunContext,
    clock: Callable[[], datetime],
) -> None:
    """One table into each; what ends one of them is kept with it, and leaves the others alone. Raises defects of ours."""
    ends = [end for end in ends if end.error is None]
    if not ends:
        return
    shared = SharedTable(len(ends), ends[0].order.commit_every)
    defects: list[BaseException] = []

    def run(end: _One) -> None:
        own: Any = SharedSession(reading, shared)
        assert end.warehouse is not None
        try:
            TableRun(end.order, end.table, end.warehouse, own, hash_key, end.listener, context, clock, end.progress).run()
        except errors.ReedError as error:
            end.error = error
        except BaseException as defect:
            defects.append(defect)
        finally:
            shared.leave(own.branch)

    for task in [end.loader_thread.submit(run, end) for end in ends]:
        task.result()
    if defects:
        raise defects[0]


class _Recorder:
    """Counts requests and waits for the table being run. Told from the threads that send; `_lock` guards the counts."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._lock = threading.Lock()
        self.progress = TableProgress("", "")
        self._counted_until = 0.0

    def request(self, request: RequestSeen) -> None:
        progress = self.progress
        with self._lock:
            progress.requests += 1
            progress.source_bytes += request.body_bytes
            sent = time.monotonic() - request.seconds
            self._waited(progress, sent - request.waited_seconds, sent)
            if request.pause_seconds:
                self._waited(progress, sent + request.seconds, sent + request.seconds + request.pause_seconds)
            progress.waiting = ""
        self._listener.request(progress.table, request)

    def _waited(self, progress: TableProgress, begin: float, end: float) -> None:
        """Requests wait beside each other: a moment in which several do counts once."""
        progress.waited_seconds += max(0.0, end - max(begin, self._counted_until))
        self._counted_until = max(self._counted_until, end)

    def wait(self, wait: Wait) -> None:
        until = (datetime.now(UTC) + timedelta(seconds=wait.seconds)).isoformat(timespec="seconds").replace("+00:00", "Z")
        with self._lock:
            self.progress.waiting = f"until {until}: {wait.why or 'the pace'}"
        self._listener.progress(self.progress)


def _summary(listener: Listener, progress: TableProgress) -> None:
    words = f"{progress.read} read, {progress.inserted} inserted, {progress.updated} updated"
    words += f", {progress.deleted} deleted" if progress.deleted else ""
    words += f", {progress.unchanged} unchanged" if progress.unchanged else ""
    words += f" in {progress.seconds:.2f} s, requests: {progress.requests}"
    if progress.repeated:
        words += f"; {progress.repeated} in the overlap were taken before"
    if progress.filtered:
        words += f"; {progress.filtered} left out by `keep`"
    if progress.rejected:
        words += f"; {progress.rejected} rejected"
    listener.log("info", "table.done", words, progress.table)
