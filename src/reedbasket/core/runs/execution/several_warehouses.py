"""One table into several warehouses: it is read once, and loaded into each in a separate thread."""

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
from ..events import DeletedKeys, Level, Listener, TableProgress
from ..planning.order import ResolvedRun, ResolvedTable
from ..request_context import RunContext
from .shared_reader import SharedSession, SharedTable
from .source_session import SourceSession
from .table_run import run_table
from .table_task import TableTask


@dataclass
class TableEnd:
    """One warehouse's part of a table.

    Attributes:
        error: the error that ended it, or that kept the warehouse from being opened.
    """

    order: ResolvedRun
    table: ResolvedTable
    warehouse: Warehouse | None
    progress: TableProgress
    listener: Listener
    loader_thread: ThreadPoolExecutor
    error: errors.ReedError | None = None


class OtherWarehouse(Listener):
    """One of the feed's further warehouses. The run's listener hears about it under the warehouse's own name."""

    def __init__(self, order: ResolvedRun, listener: Listener) -> None:
        self._order = order
        self._listener = listener
        self._name = order.warehouse.warehouse
        self.progresses = [TableProgress(t.name, t.target, self._name) for t in order.tables]
        self.warehouse: Warehouse | None = None
        self._problem: errors.ReedError | None = None
        self._thread = ThreadPoolExecutor(1, f"load {self._name}")

    def open(self, context: RunContext) -> None:
        """Open the warehouse. If that fails, the error is reported with each of its tables."""
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
        """The part of one table that is loaded into this warehouse.

        Args:
            place: the position of the table in the run.
        """
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
    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        self._listener.saw_all_records(table, self._name)

    @override
    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        self._listener.rows_deleted(table, key, keys, self._name)

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
    """Load one table into each warehouse. An error in one of them is kept with it and does not affect the others. Raises only bugs."""
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
