"""The tables of one run, one after the other, into one warehouse or several at once."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ... import errors
from ...warehouses import Warehouse, open_warehouse
from ..events import Listener, TableProgress
from ..planning.matched_tables import MatchedTables
from ..planning.order import ResolvedTable
from ..planning.table_drift import as_drift, as_missing, missing_tables, new_tables
from ..request_context import RunContext
from .replay import Replayed
from .request_counts import RequestCounts
from .several_warehouses import OtherWarehouse, TableEnd, run_together
from .source_session import SourceSession
from .table_run import run_table
from .table_task import TableTask

# Errors after which the other tables would meet the same: the source as a whole, or the warehouse.
ENDS_THE_RUN = (
    errors.SourceUnreachable,
    errors.CredentialsRefused,
    errors.SourceTimedOut,
    errors.SourceBusy,
    errors.SourceCoolingDown,
    errors.QuotaExhausted,
    errors.SignInFailed,
    errors.SignInNeeded,
    errors.WarehouseBusy,
    errors.RunCancelled,
    errors.RunShutDown,
)


@dataclass
class FeedTables:
    """One pass over the tables of a feed.

    Attributes:
        found: the run, with its tables as they are at the source.
        progresses: the progress of its tables in their order, followed by tables that are missing.
        others: the feed's further warehouses.
        replayed: rejected records to load again instead of reading the source, by table; None for an ordinary run.
        first: the first error. Tables that do not depend on it still ran.
    """

    found: MatchedTables
    progresses: list[TableProgress]
    session: SourceSession
    context: RunContext
    listener: Listener
    clock: Callable[[], datetime]
    counts: RequestCounts
    others: Sequence[OtherWarehouse] = ()
    replayed: Mapping[str, Replayed] | None = None
    first: errors.ReedError | None = None

    def run(self) -> errors.ReedError | None:
        """Run all tables, and return the first error.

        Raises:
            ReedError: the only warehouse cannot be opened.
        """
        order = self.found.order
        warehouse: Warehouse | None = None
        problem: errors.ReedError | None = None
        try:
            warehouse = open_warehouse(order.warehouse, self.context.places, self.context.reveal)
        except errors.ReedError as error:
            if not self.others:
                raise
            problem = error  # told with each of its tables, as of the others; those are loaded all the same
        # What a warehouse's connection is used in is one thread, from its first load to its end.
        thread = ThreadPoolExecutor(1, f"load {order.warehouse.warehouse}")
        for other in self.others:
            other.open(self.context)
        try:
            self._run_all(warehouse, problem, thread)
        finally:
            if warehouse is not None:
                if self.others:
                    thread.submit(warehouse.close).result()
                else:
                    warehouse.close()
            thread.shutdown()
            for other in self.others:
                other.close()
        return self.first

    def _run_all(self, warehouse: Warehouse | None, problem: errors.ReedError | None, thread: ThreadPoolExecutor) -> None:
        order = self.found.order
        known = warehouse or next((other.warehouse for other in self.others if other.warehouse is not None), None)
        new = new_tables(order, known) if self.replayed is None and known is not None else []
        if self.replayed is None and known is not None:
            self._tell_missing(known)
        for place, (table, progress) in enumerate(zip(order.tables, self.progresses)):
            if self.replayed is not None and table.name not in self.replayed:
                continue
            self.counts.progress = progress
            began = time.monotonic()
            try:
                if table in new:
                    self._tell_new(table, progress)
                elif self.others:
                    end = TableEnd(order, table, warehouse, progress, self.listener, thread, problem)
                    if self._into_several([end, *(other.table(place) for other in self.others)], began):
                        return
                else:
                    assert warehouse is not None
                    self._into_one(table, warehouse, progress)
            except errors.ReedError as error:
                progress.seconds = time.monotonic() - began
                self._failed(progress, error)
                if isinstance(error, ENDS_THE_RUN):
                    return
        for progress in self.progresses[len(order.tables) :] if self.replayed is None else []:
            if progress.table in self.found.problems and not progress.warehouse:
                self._failed(progress, self.found.problems[progress.table])

    def _into_one(self, table: ResolvedTable, warehouse: Warehouse, progress: TableProgress) -> None:
        records = self.replayed[table.name] if self.replayed else None
        order, session, listener = self.found.order, self.session, self.listener
        context, clock = self.context, self.clock
        run_table(TableTask(order, table, warehouse, session, self._hash_key, listener, context, clock, progress, records))
        summarise(listener, progress)

    def _into_several(self, ends: Sequence[TableEnd], began: float) -> bool:
        """Whether the run is over with that."""
        run_together(ends, self.session, self._hash_key, self.context, self.clock)
        for end in ends:
            if end.error is not None:
                end.progress.seconds = time.monotonic() - began
                self._failed(end.progress, end.error)
            else:
                summarise(end.listener, end.progress)
        over = [end.error for end in ends if isinstance(end.error, ENDS_THE_RUN)]
        return len(over) == len(ends) or any(isinstance(error, errors.RunCancelled | errors.RunShutDown) for error in over)

    def _hash_key(self) -> bytes:
        return self.context.reveal(self.found.order.hash_secret).encode()

    def _tell_missing(self, known: Warehouse) -> None:
        order = self.found.order
        for name in missing_tables(order, known, self.found.problems):
            progress = TableProgress(name, "", phase="skipped")
            self.progresses.append(progress)
            missing = as_missing(order, name)
            if order.on_drift.missing_table == "fail":
                self._failed(progress, missing)
            else:
                self.listener.log("warning", missing.code, f"{name}: {missing.found}", name)
                self.listener.progress(progress)

    def _tell_new(self, table: ResolvedTable, progress: TableProgress) -> None:
        """Of a table that came to be at the source, and is passed over. Raises DriftFailed."""
        change = as_drift(self.found.order, table)
        self.listener.log("warning", "drift.table", change.words, table.name)
        self.listener.drift(table.name, [change])
        progress.phase = "skipped"
        self.listener.progress(progress)

    def _failed(self, progress: TableProgress, error: errors.ReedError) -> None:
        self.session.mask.error(error)
        self.first = self.first or error
        progress.phase, progress.error = "failed", error.as_dict()
        self.listener.progress(progress)
        level: Any = "warning" if isinstance(error, errors.RunCancelled | errors.RunShutDown) else "error"
        place = f"{progress.warehouse}: " if progress.warehouse else ""
        self.listener.log(level, error.code, place + str(error), progress.table)


def summarise(listener: Listener, progress: TableProgress) -> None:
    """Log one line about the outcome of a table."""
    words = f"{progress.read} read, {progress.inserted} inserted, {progress.updated} updated"
    words += f", {progress.deleted} deleted" if progress.deleted else ""
    words += f", {progress.unchanged} unchanged" if progress.unchanged else ""
    words += f" in {progress.seconds:.2f} s, requests: {progress.requests}"
    if progress.repeated:
        words += f"; {progress.repeated} in the overlap were already loaded"
    if progress.filtered:
        words += f"; {progress.filtered} left out by `filter`"
    if progress.rejected:
        words += f"; {progress.rejected} rejected"
    listener.log("info", "table.done", words, progress.table)
