"""Does the warehouse hold what the source shows? Everything is read again, and compared inside the warehouse's engine."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from datetime import timedelta
from typing import Any

from ... import errors
from ...shaping.columns import ColumnWork
from ...sources.batching import gathered
from ...spec.times import parse_time
from ...warehouses import Differences, LoadTarget, Warehouse, open_warehouse
from ..checkpoints.resume import shaper_for
from ..execution.deleted_records import tombstone_test
from ..execution.open_session import open_session
from ..execution.source_session import ReadStart, SourceSession
from ..planning.order import ResolvedRun, ResolvedTable
from ..request_context import RunContext

_MOST_SAMPLES = 5


@dataclass
class VerifiedTable:
    """The comparison of one table. Older versions in an appended table are not differences.

    Attributes:
        deep: values were compared, not only keys.
        same: no difference was found, as far as was compared.
        lacking: columns that the source shows and the warehouse does not have yet.
        samples: [{what, key, values: {column: [source's, warehouse's]}}], the first few of each kind of difference.
        rejected: records that the warehouse cannot hold as they are, which makes it differ.
        filtered: records that the feed leaves out.
    """

    source_table: str
    table: str
    deep: bool
    source: int = 0
    warehouse: int = 0
    only_source: int | None = None
    only_warehouse: int | None = None
    differing: int | None = None
    rejected: int = 0
    filtered: int = 0
    same: bool = False
    lacking: list[str] = field(default_factory=list)
    samples: list[dict[str, Any]] = field(default_factory=list)
    error: dict[str, Any] | None = None

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)


def verify_feed(order: ResolvedRun, context: RunContext, *, deep: bool, only: str | None) -> list[VerifiedTable]:
    """Verify each table of a feed with its child tables. An error of one table is kept with it.

    Args:
        deep: compare values, not only keys.
        only: one table to verify, instead of all.

    Raises:
        ReedError: the source or the warehouse as a whole cannot be read.
    """
    found = []
    reading = open_session(order, context, lambda _: None)
    try:
        matched = reading.match_tables(order)
        warehouse = open_warehouse(order.warehouse, context.places, context.reveal)
        try:
            for table in matched.order.tables:
                if only is not None and table.name != only:
                    continue
                try:
                    found += _verify(order, table, warehouse, reading, context, deep=deep)
                except errors.ReedError as error:
                    found.append(VerifiedTable(table.name, table.target, deep, error=reading.mask.error(error).as_dict()))
        finally:
            warehouse.close()
        for name, problem in matched.problems.items():
            if only in (None, name):
                found.append(VerifiedTable(name, "", deep, error=reading.mask.error(problem).as_dict()))
    finally:
        reading.close()
    return found


def _verify(
    order: ResolvedRun, table: ResolvedTable, warehouse: Warehouse, reading: SourceSession, context: RunContext, *, deep: bool
) -> list[VerifiedTable]:
    state = warehouse.state(order.feed, table.name)
    # From the very beginning: what the cursor has passed is just what is to be verified. Windows end where the last run's did.
    taken = state.cursor if state and state.cursor and state.cursor.kind == "window" else None
    lag = table.window.delay if table.window else timedelta(0)
    reader = reading.open_reader(table, ReadStart(until=parse_time(taken.value) + lag if taken else None))
    shaper = shaper_for(order, table, state)
    shaper.exclude_columns(reader.left_out)
    columns = ColumnWork(shaper.rules, lambda: context.reveal(order.hash_secret).encode(), value_limits=warehouse.value_limits)
    # Read as a merge would, so that the stage is filled and nothing is built.
    target = LoadTarget(
        order.run, order.feed, order.source, table.name, table.target, table.write, table.key, table.link, again=True
    )
    load = warehouse.begin(target, state or _nothing(table))
    try:
        gone = tombstone_test(table.rule) if table.rule and table.write != "append" else None
        owner = rejected = filtered = 0
        for chunk in gathered(reader.chunks()):
            records = reader.tracker.take(chunk.records).records if reader.tracker else chunk.records
            shaped = shaper.shape(records, owner, suspicious=chunk.suspicious)
            owner += shaped.records
            worked = columns.work(shaped, gone)
            rejected += len(shaped.rejects) + len(worked.rejects) + len(chunk.misfits)
            filtered += worked.filtered
            load.stage(worked.family, worked.batches)
        family = columns.layout_of(shaper.family)
        found = load.differences(family, deep=deep, samples=_MOST_SAMPLES)
    finally:
        load.close()
    verified = [_verified(table.name, one, deep=deep, appended=table.write == "append") for one in found]
    verified[0].rejected, verified[0].filtered = rejected, filtered
    verified[0].same = verified[0].same and not rejected
    return verified


def _verified(source_table: str, found: Differences, *, deep: bool, appended: bool) -> VerifiedTable:
    counted = (found.only_source, found.only_warehouse, found.differing)
    same = found.source == found.warehouse and not any(counted)
    if appended:
        # Every version that ever came stands there.
        same = not found.only_source and found.source <= found.warehouse
    samples = [
        {"what": what, "key": list(key), "values": {c: list(pair) for c, pair in pairs.items()}}
        for what, key, pairs in found.samples
    ]
    return VerifiedTable(
        source_table,
        found.table,
        deep,
        source=found.source,
        warehouse=found.warehouse,
        only_source=found.only_source,
        only_warehouse=found.only_warehouse,
        differing=found.differing,
        same=same and not found.lacking,
        lacking=found.lacking,
        samples=samples,
    )


def _nothing(table: ResolvedTable) -> Any:
    from ...shaping import TableShape
    from ...warehouses import TableState

    return TableState(0, TableShape(table.target), None, table.link, table.key)
