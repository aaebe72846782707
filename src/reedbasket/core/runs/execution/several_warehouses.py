"""One table into several warehouses: read once, loaded into each in a thread of its own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime

from typing_extensions import override

from ... import errors
from ...shaping import Change, Reject
from ...sources.requests_seen import RequestSeen
from ...warehouses import LedgerLine, Warehouse, open_warehouse
from ..events import Gone, Level, Listener, TableProgress
from ..planning.order import ResolvedRun, ResolvedTable
from ..request_context import RunContext
from .shared_reader import SharedSession, SharedTable
from .source_session import SourceSession
from .table_run import run_table
from .table_task import TableTask


@dataclass
class TableEnd:
    """One warehouse's part of a table. error: with which it ended, or why it is not even open."""

    order: ResolvedRun
    table: ResolvedTable
    warehouse: Warehouse | None
    progress: TableProgress
    listener: Listener
    loader_thread: ThreadPoolExecutor
    error: errors.ReedError | None = None


class OtherWarehouse(Listener):
    """Another of the feed's warehouses, with what it is told of in the run's listener: all of it under its own name."""

    def __init__(self, order: ResolvedRun, listener: Listener) -> None:
        self._order = order
        self._listener = listener
        self._name = order.warehouse.warehouse
        self.progresses = [TableProgress(t.name, t.target, self._name) for t in order.tables]
        self.warehouse: Warehouse | None = None
        self._problem: errors.ReedError | None = None
        self._thread = ThreadPoolExecutor(1, f"load {self._name}")

    def open(self, context: RunContext) -> None:
        """What keeps it from being opened is told with each of its tables."""
        try:
            self.warehouse = open_warehouse(self._order.warehouse, context.places, context.reveal)
        except errors.ReedError as error:
            self._problem = error

    def close(self) -> None:
        """Close the warehouse, and end its thread."""
        if self.warehouse is not None:
            self._thread.submit(self.warehouse.close).result()
        self._thread.shutdown()

    def table(self, place: int) -> TableEnd:
        """What loads one table of the order into this warehouse; place: of the table in the order."""
        table, progress = self._order.tables[place], self.progresses[place]
        return TableEnd(self._order, table, self.warehouse, progress, self, self._thread, self._problem)

    @override
    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        self._listener.log(level, code, f"{self._name}: {message}", table)

    @override
    def request(self, table: str, seen: RequestSeen) -> None:
        self._listener.request(table, seen)

    @override
    def progress(self, progress: TableProgress) -> None:
        self._listener.progress(progress)

    @override
    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        self._listener.rejects(table, rejects, self._name)

    @override
    def all_met(self, table: str, warehouse: str = "") -> None:
        self._listener.all_met(table, self._name)

    @override
    def gone(self, table: str, key: Sequence[str], keys: Gone | None, warehouse: str = "") -> None:
        self._listener.gone(table, key, keys, self._name)

    @override
    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        self._listener.drift(table, changes, self._name)

    @override
    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        self._listener.loaded(lines, self._name)


def run_together(
    ends: Sequence[TableEnd],
    reading: SourceSession,
    hash_key: Callable[[], bytes],
    context: RunContext,
    clock: Callable[[], datetime],
) -> None:
    """One table into each; what ends one of them is kept with it, and leaves the others alone. Raises defects of ours."""
    ends = [end for end in ends if end.error is None]
    if not ends:
        return
    shared = SharedTable(len(ends), ends[0].order.rows_per_commit)
    defects: list[BaseException] = []

    def run(end: TableEnd) -> None:
        own = SharedSession(reading, shared)
        assert end.warehouse is not None
        try:
            run_table(TableTask(end.order, end.table, end.warehouse, own, hash_key, end.listener, context, clock, end.progress))
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
