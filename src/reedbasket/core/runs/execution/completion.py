"""What a run reports about a table, what it asks of the load, and what it does after the last record."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from ...errors import TooManyRejects
from ...shaping.batch import Reject
from ...shaping.rules import Change
from ...shaping.shaper import Shaper
from ...shaping.unused_rules import unused_rules
from ...spec.limits import exceeds
from ...warehouses.loading import LoadTarget
from ...warehouses.warehouse import Warehouse
from ..events import TableProgress
from ..planning.order import ResolvedRun, ResolvedTable


def closing_notes(progress: TableProgress, shaper: Shaper) -> Iterator[tuple[Any, str, str]]:
    """Lines for the run's log once the table is read: (level, code, text)."""
    nulls = [name for name in shaper.structure.only_null_fields() if name not in shaper.left_out]
    if nulls and progress.read:
        yield (
            "info",
            "structure.only_nulls",
            f"only nulls, empty lists or empty objects so far, so there is no column yet: {', '.join(nulls)}",
        )
    if shaper.left_out:
        yield "info", "column.left_out", f"left out by the feed: {', '.join(sorted(shaper.left_out))}"
    for rule in unused_rules(shaper.rules, shaper.structure) if progress.read else []:
        yield "warning", "shaping.unmatched", f"no record has what the feed names: {rule}"
    if progress.held_back:
        later = f"records later than the end of this run, by the source's clock: {progress.held_back:,}"
        yield "warning", "cursor.held_back", f"{later}; the next run loads them"


def notes_of(changes: Sequence[Change], *, drifted: bool) -> Iterator[tuple[Any, str, str]]:
    """Lines for the run's log about changes of structure: (level, code, text).

    Args:
        drifted: the table was loaded before, so changes of its structure are drift.
    """
    for change in changes:
        code = "structure.learned" if not drifted else f"drift.{change.what}"
        yield "warning" if drifted and (change.ignored or change.what == "vanished") else "info", code, change.words


def require_few(order: ResolvedRun, table: str, rejected: int, rejects: Sequence[Reject]) -> None:
    """Check the limit on rejects while records arrive, where that limit is a number.

    Args:
        rejected: the number of rejects in this run so far.
        rejects: the latest of them, for the message.

    Raises:
        TooManyRejects: the limit is passed.
    """
    if isinstance(order.max_rejects, int) and rejected > order.max_rejects:
        raise _too_many(order, table, f"rejected records: {rejected:,}", f"; the latest: {rejects[-1].message}")


def require_not_all_rejected(order: ResolvedRun, table: str, progress: TableProgress) -> None:
    """Check the share of rejects after the last record.

    Raises:
        TooManyRejects: the share is above the limit, or everything was rejected.
    """
    rejected, read = progress.rejected, progress.read
    if rejected and rejected >= read:
        came = "the only record was" if rejected == 1 else f"all {rejected:,} records were"
        raise _too_many(order, table, f"{came} rejected", "")
    if isinstance(order.max_rejects, str) and exceeds(order.max_rejects, rejected, read):
        raise _too_many(order, table, f"{rejected} of {read} records were rejected", "")


def _too_many(order: ResolvedRun, table: str, found: str, more: str) -> TooManyRejects:
    return TooManyRejects(
        "reading",
        table,
        found=f"{found}, and the feed says `max_rejects: {order.max_rejects}`{more}",
        fix=f"see `reed rejects {order.feed}`, then fix the definition or the source, or raise the limit",
    )


def target_of(
    order: ResolvedRun,
    table: ResolvedTable,
    *,
    complete: bool,
    again: bool,
    tombstones: bool,
    reads_everything: bool,
    flat: bool,
) -> LoadTarget:
    """What the load needs to know about the table; see LoadTarget."""
    return LoadTarget(
        order.run,
        order.feed,
        order.source,
        table.name,
        table.target,
        table.write,
        table.key,
        table.link,
        table.deletes,
        complete,
        again,
        tombstones,
        reads_everything,
        flat,
        None if order.accept or again else order.max_removed,
    )


def refresh_derived(order: ResolvedRun, table: ResolvedTable, warehouse: Warehouse, version: int) -> str:
    """Refresh the view or table that the feed derives from this table, if that is due.

    Args:
        version: see Load.

    Returns:
        What was done, for the log.
    """
    return warehouse.keep_derived(order.feed, table.name, table.shaping.derived, version) if version else ""
