"""The run of one table: everything that stays the same however often the table is read."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any

from ...errors import RunCancelled
from ...warehouses.loading import LoadedWindow
from ...warehouses.warehouse import Warehouse
from ..events import Listener, TableProgress
from ..planning.order import ResolvedRun, ResolvedTable
from ..planning.requested_window import requested_window
from ..request_context import RunContext
from .replay import Replayed
from .source_session import SourceSession


@dataclass(frozen=True)
class TableTask:
    """One table of one run, in one warehouse.

    Attributes:
        order: the run.
        table: the table.
        warehouse: where it is loaded.
        session: reads the source.
        hash_key: gives the secret for hashing values.
        listener: is told about loads, rejects, drift and log lines.
        context: says when the run has to stop.
        clock: the time now, with its zone.
        progress: kept up to date throughout.
        replayed: rejected records to load again instead of reading the source; None for an ordinary run.
    """

    order: ResolvedRun
    table: ResolvedTable
    warehouse: Warehouse
    session: SourceSession
    hash_key: Callable[[], bytes]
    listener: Listener
    context: RunContext
    clock: Callable[[], datetime]
    progress: TableProgress
    replayed: Replayed | None = None

    @property
    def replays(self) -> bool:
        """Whether rejected records are loaded again, and the source is not read."""
        return self.replayed is not None

    @cached_property
    def window(self) -> LoadedWindow | None:
        """The requested window; None for everything that is new."""
        return None if self.replays else requested_window(self.order, self.table)

    @property
    def moves_cursor(self) -> bool:
        """Whether the next run continues where this one ends."""
        return not self.replays and self.window is None and not self.order.apart

    @property
    def complete(self) -> bool:
        """Whether the read brings everything that the source has of the table."""
        return self.table.complete and not self.replays

    def phase(self, phase: Any) -> None:
        """Report what is being done."""
        self.progress.phase = phase
        self.listener.progress(self.progress)

    def log(self, level: Any, code: str, message: str) -> None:
        """Write a line to the run's log."""
        self.listener.log(level, code, message, self.table.name)

    def require_not_cancelled(self, doing: str) -> None:
        """Check whether the run goes on.

        Raises:
            RunCancelled: somebody cancelled it.
        """
        if self.context.stop.is_set():
            raise RunCancelled(doing, self.table.name, found="the run was cancelled; what was committed stays")
