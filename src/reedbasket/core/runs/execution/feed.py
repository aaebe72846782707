"""One run of one feed, from opening its source to its outcome."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ... import errors
from ...masking import Mask
from ..events import Listener, RunOutcome, TableProgress
from ..planning.order import ResolvedRun
from ..request_context import RunContext
from .feed_tables import FeedTables
from .open_session import open_session
from .replay import ReplayedRejects
from .request_counts import RequestCounts
from .several_warehouses import OtherWarehouse
from .source_session import SourceSession


@dataclass(frozen=True)
class RunResult:
    """How a run ended.

    Attributes:
        error: the first error's facts, masked.
    """

    outcome: RunOutcome
    tables: list[TableProgress]
    error: dict[str, Any] | None


def run_feed(
    order: ResolvedRun,
    context: RunContext,
    *,
    listener: Listener,
    clock: Callable[[], datetime],
    again: ReplayedRejects | None = None,
) -> RunResult:
    """Run every table of a feed. Raises nothing except bugs.

    Args:
        order: the resolved run.
        context: what the run needs from outside.
        listener: is told what happens.
        clock: the time now, with its zone.
        again: rejected records to load again instead of reading the source, each by the warehouse that rejected it.
    """
    progresses = [TableProgress(t.name, t.target) for t in order.tables]
    first: errors.ReedError | None
    mask = Mask()
    counts = RequestCounts(listener)
    try:
        session = open_session(order, context, counts.request, counts.wait)
        mask = session.mask
        try:
            further = [session.match_tables(other) for other in order.others]
            found = session.match_tables(order)
            progresses = [TableProgress(t.name, t.target) for t in found.order.tables]
            progresses += [TableProgress(name, "") for name in found.problems]
            others = [OtherWarehouse(other.order, listener) for other in further]
            progresses += [progress for one in others for progress in one.progresses]
            for progress in progresses:
                listener.progress(progress)
            for note in found.notes:
                listener.log(*note)
            if again is None:
                first = FeedTables(found, progresses, session, context, listener, clock, counts, others).run()
            else:
                first = None
                # Each takes what itself rejected, one after the other.
                for one, told, shown in zip(
                    (found, *further), (listener, *others), (progresses, *(o.progresses for o in others))
                ):
                    name = one.order.warehouse.warehouse
                    own = {table: held for (where, table), held in again.items() if where == name}
                    problem = FeedTables(one, shown, session, context, told, clock, counts, replayed=own).run()
                    first = first or problem
            _acknowledge(session, listener)
        finally:
            session.close()
    except errors.ReedError as error:
        first = mask.error(error)
        listener.log("error", first.code, str(first))
    for progress in progresses:
        if progress.phase == "waiting":
            progress.phase = "skipped"
            listener.progress(progress)
    return RunResult(_outcome(first), progresses, first.as_dict() if first else None)


def _outcome(first: errors.ReedError | None) -> RunOutcome:
    if first is None:
        return RunOutcome.SUCCEEDED
    if isinstance(first, errors.RunCancelled):
        return RunOutcome.CANCELLED
    return RunOutcome.INTERRUPTED if isinstance(first, errors.RunShutDown) else RunOutcome.FAILED


def _acknowledge(session: SourceSession, listener: Listener) -> None:
    """If this fails, only time is lost: the next run skips what the log sends again."""
    try:
        session.acknowledge()
    except errors.ReedError as error:
        listener.log("warning", "cdc.not_confirmed", str(session.mask.error(error)))
