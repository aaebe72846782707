"""What the run of one table is given: the same however often the table is read."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any

from ...errors import RunCancelled
from ...warehouses.loading import TakenWindow
from ...warehouses.warehouse import Warehouse
from ..events import Listener, TableProgress
from ..planning.order import ResolvedRun, ResolvedTable
from ..planning.requested_window import requested_window
from ..request_context import RunContext
from .replay import Replayed
from .source_session import SourceSession


@dataclass(frozen=True)
class TableTask:
    """One table of one run, and one warehouse.

    Attributes:
        order: the run.
        table: the table of it.
        warehouse: where it is loaded.
        session: reads the source.
        hash_key: gives the secret that values are hashed with.
        listener: hears of loads, rejects, drift and lines of the log.
        context: how the run is told to stop.
        clock: the time now, with its zone.
        progress: kept up to date throughout.
        replayed: records that were rejected before, loaded in place of the source's; None for a read of the source.
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
        """Whether rejected records are loaded once more, and the source is not read."""
        return self.replayed is not None

    @cached_property
    def window(self) -> TakenWindow | None:
        """The window that was asked for; None for all that is new."""
        return None if self.replays else requested_window(self.order, self.table)

    @property
    def moves_cursor(self) -> bool:
        """Whether the next run goes on where this one ends."""
        return not self.replays and self.window is None and not self.order.apart

    @property
    def complete(self) -> bool:
        """Whether the read shows all that the source has of the table."""
        return self.table.complete and not self.replays

    def phase(self, phase: Any) -> None:
        """Say what is being done, for whoever watches."""
        self.progress.phase = phase
        self.listener.progress(self.progress)

    def log(self, level: Any, code: str, message: str) -> None:
        """Write a line of the run's log."""
        self.listener.log(level, code, message, self.table.name)

    def require_not_cancelled(self, doing: str) -> None:
        """Raises RunCancelled where somebody cancelled the run."""
        if self.context.stop.is_set():
            raise RunCancelled(doing, self.table.name, found="the run was cancelled; what was committed stays")
