"""One run of one feed: its tables in order, each to its end."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from .. import errors
from ..extract.http import RequestSeen, Sender
from ..extract.pace import Pacer
from ..load import open_warehouse
from ..masking import Mask
from .events import Listener, RunOutcome, TableProgress
from .order import RunOrder, credentials_of, mask_for
from .table import TableRun

# Errors after which the other tables would meet the same: the source as a whole, or the warehouse.
_ENDS_THE_RUN = (
    errors.SourceUnreachable,
    errors.SourceRefused,
    errors.SourceTimedOut,
    errors.SourceBusy,
    errors.WarehouseBusy,
    errors.RunCancelled,
)


@dataclass(frozen=True)
class RunResult:
    """How a run ended. error: the first one's facts, masked."""

    outcome: RunOutcome
    tables: list[TableProgress]
    error: dict[str, Any] | None


def run_feed(
    order: RunOrder,
    *,
    reveal: Callable[[str], str],
    folder: Path,
    pacer: Pacer,
    listener: Listener,
    stop: threading.Event,
    clock: Callable[[], datetime],
    again: Mapping[str, Sequence[dict[str, Any]]] | None = None,
) -> RunResult:
    """Run every table of the order. reveal: the value of a secret by name. again: {table: records} that were rejected before,
    taken in place of the source's. Raises nothing but defects of ours."""
    progresses = [TableProgress(t.name, t.target) for t in order.tables]
    mask = Mask()
    try:
        revealed = {setting: reveal(name) for setting, name in order.secrets.items()}
        mask = mask_for(order, revealed)
        values = order.values(revealed)
        if order.ignored:
            listener.log(
                "info", "table.ignored", f"offered by the connector, not part of this feed: {', '.join(order.ignored)}"
            )
        first = _run_tables(order, progresses, values, mask, folder, reveal, pacer, listener, stop, clock, again)
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
    else:
        outcome = RunOutcome.FAILED
    return RunResult(outcome, progresses, first.as_dict() if first else None)


def _run_tables(
    order: RunOrder,
    progresses: list[TableProgress],
    values: dict[str, Any],
    mask: Mask,
    folder: Path,
    reveal: Callable[[str], str],
    pacer: Pacer,
    listener: Listener,
    stop: threading.Event,
    clock: Callable[[], datetime],
    again: Mapping[str, Sequence[dict[str, Any]]] | None,
) -> errors.ReedError | None:
    """The first error, after which the tables that do not depend on it still ran."""
    first: errors.ReedError | None = None

    def hash_key() -> bytes:
        return reveal(order.hash_with).encode()

    warehouse = open_warehouse(order.warehouse, folder, reveal)
    try:
        for table, progress in zip(order.tables, progresses):
            if again is not None and not again.get(table.name):
                continue
            sender = Sender(
                timeouts=order.timeouts,
                retry=order.retry,
                pacer=pacer,
                stop=stop,
                mask=mask,
                seen=_counting(progress, listener),
                credentials=credentials_of(order, values),
            )
            began = time.monotonic()
            try:
                TableRun(
                    order,
                    table,
                    warehouse,
                    sender,
                    values,
                    hash_key,
                    listener,
                    stop,
                    clock,
                    progress,
                    again[table.name] if again else None,
                ).run()
                _summary(listener, progress)
            except errors.ReedError as error:
                mask.error(error)
                first = first or error
                progress.phase, progress.error = "failed", error.as_dict()
                progress.seconds = time.monotonic() - began
                listener.progress(progress)
                level: Any = "warning" if isinstance(error, errors.RunCancelled) else "error"
                listener.log(level, error.code, str(error), table.name)
                if isinstance(error, _ENDS_THE_RUN):
                    break
            finally:
                sender.close()
    finally:
        warehouse.close()
    return first


def _counting(progress: TableProgress, listener: Listener) -> Callable[[RequestSeen], None]:
    def seen(request: RequestSeen) -> None:
        progress.requests += 1
        progress.source_bytes += request.body_bytes
        progress.waited_seconds += request.waited_seconds + request.pause_seconds
        listener.request(progress.table, request)

    return seen


def _summary(listener: Listener, progress: TableProgress) -> None:
    words = f"{progress.read} read, {progress.loaded} loaded in {progress.seconds:.2f} s, requests: {progress.requests}"
    if progress.repeated:
        words += f"; {progress.repeated} in the overlap were taken before"
    if progress.unchanged:
        words += f"; {progress.unchanged} compared and unchanged"
    if progress.filtered:
        words += f"; {progress.filtered} left out by `keep`"
    if progress.rejected:
        words += f"; {progress.rejected} rejected"
    listener.log("info", "table.done", words, progress.table)
