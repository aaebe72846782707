"""What a run tells of a table, what it asks of the load, and what it does once all records are taken."""

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
    """For the run's log: (level, code, words)."""
    unseen = [name for name in shaper.structure.unseen() if name not in shaper.left_out]
    if unseen and progress.read:
        yield (
            "info",
            "structure.only_nulls",
            f"only nulls, empty lists or empty objects so far, no column made yet: {', '.join(unseen)}",
        )
    if shaper.left_out:
        yield "info", "column.left_out", f"left out by the feed: {', '.join(sorted(shaper.left_out))}"
    for rule in unused_rules(shaper.rules, shaper.structure) if progress.read else []:
        yield "warning", "shaping.unmatched", f"no record has brought what the feed names: {rule}"
    if progress.held_back:
        words = f"{progress.held_back} records stand beyond where this run ends, by the source's clock; a later one takes them"
        yield "warning", "cursor.held_back", words


def notes_of(changes: Sequence[Change], *, drifted: bool) -> Iterator[tuple[Any, str, str]]:
    """For the run's log. drifted: the table was loaded before, so that what is new in its structure is drift."""
    for change in changes:
        code = "structure.learned" if not drifted else f"drift.{change.what}"
        yield "warning" if drifted and (change.ignored or change.what == "vanished") else "info", code, change.words


def require_few(order: ResolvedRun, table: str, rejected: int, rejects: Sequence[Reject]) -> None:
    """While records come. Raises TooManyRejects where the limit is a number. rejected: of the run; rejects: the latest of them."""
    if isinstance(order.max_rejects, int) and rejected > order.max_rejects:
        raise _too_many(order, table, f"{rejected} records were rejected", f"; the last: {rejects[-1].message}")


def require_some_good(order: ResolvedRun, table: str, progress: TableProgress) -> None:
    """Once all have come. Raises TooManyRejects where a share of them was rejected that is beyond the limit, or all of them."""
    rejected, read = progress.rejected, progress.read
    if rejected and rejected >= read:
        came = "the one record that came was" if rejected == 1 else f"all {rejected:,} records that came were"
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
    order: ResolvedRun, table: ResolvedTable, *, complete: bool, again: bool, tombstones: bool, reads_all: bool, flat: bool
) -> LoadTarget:
    """What the load is told of the table; see LoadTarget."""
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
        reads_all,
        flat,
        None if order.accept or again else order.max_removed,
    )


def refresh_derived(order: ResolvedRun, table: ResolvedTable, warehouse: Warehouse, version: int) -> str:
    """What the feed keeps on top of the table, made anew where that is due: what was done, in words. version: see Load."""
    return warehouse.keep_derived(order.feed, table.name, table.shaping.derived, version) if version else ""
