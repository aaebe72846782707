"""What a run would do, before it does it. It requests one page of each table and writes nothing."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from types import MappingProxyType
from typing import Any

from ... import errors
from ...records.layout import TableLayout
from ...records.position import SavedCursor
from ...shaping.columns import ColumnWork
from ...shaping.unused_rules import unused_rules
from ...sources.chunk import Chunk
from ...sources.requests_seen import RequestSeen
from ...spec.model import KEYED
from ...warehouses import Warehouse, open_warehouse
from ...warehouses.limits import require_column_limit
from ..checkpoints.resume import held_of, moved, shaper_for
from ..execution.open_session import open_session
from ..execution.source_session import ReadStart, SourceSession
from ..execution.table_reader import TableReader, saved_of
from ..planning.blind_spots import blind_spots
from ..planning.order import ResolvedRun, ResolvedTable
from ..planning.table_drift import as_missing, missing_tables
from ..request_context import RunContext

# {table: [(where a pass begins, its first request, its first chunk, what was asked)]}
Samples = dict[str, list[tuple[Any, str, Chunk, list[RequestSeen]]]]


@dataclass
class PlannedTable:
    """One table in a warehouse.

    The feed's own tables, unlike child tables, also have `by`, `write`, `key`, `cursor_from`, `cursor_until`, the sample request and a
    rough cost.

    Attributes:
        warehouse: '' for the feed's first.
        new_columns: [{name, type}] that the run would create.
        columns: those that exist now.
        records: the number of records according to the source; None if it does not say.
        warnings: [{code, words}]: what the run cannot see, and what looks wrong with the first page.
    """

    source_table: str
    table: str
    warehouse: str = ""
    parent: str | None = None
    exists: bool = False
    columns: list[dict[str, str]] = field(default_factory=list)
    new_columns: list[dict[str, str]] = field(default_factory=list)
    by: str = ""
    write: str = ""
    key: list[str] = field(default_factory=list)
    cursor_from: str | None = None
    cursor_until: str | None = None
    request: str = ""
    sample_records: int = 0
    sample_rejects: int = 0
    sample_filtered: int = 0
    deletes: str = ""
    drift: list[dict[str, Any]] = field(default_factory=list)
    warnings: list[dict[str, str]] = field(default_factory=list)
    steps: list[str] = field(default_factory=list)
    losses: list[str] = field(default_factory=list)
    records: int | None = None
    requests: int | None = None
    seconds: float | None = None
    only_nulls: list[str] = field(default_factory=list)
    unmatched: list[str] = field(default_factory=list)
    error: dict[str, Any] | None = None

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)


def plan_feed(
    order: ResolvedRun, context: RunContext, saved: Mapping[str, SavedCursor | None] = MappingProxyType({})
) -> list[PlannedTable]:
    """Plan every table of a feed, parents before their child tables; the first warehouse's tables before those of the others. An error of
    one table is kept with that table.

    Args:
        saved: positions, by table, to use in place of the saved ones.

    Raises:
        ReedError: the source as a whole cannot be read.
    """
    requests: list[RequestSeen] = []
    reading = open_session(order, context, requests.append, retry=order.retry.model_copy(update={"attempts": 2}))
    planned: list[PlannedTable] = []
    samples: Samples = {}

    def hash_key() -> bytes:
        return context.reveal(order.hash_secret).encode()

    def into(one: ResolvedRun, name: str) -> None:
        """Plan for one warehouse; name: '' for the first, which has to be available."""
        try:
            warehouse = open_warehouse(one.warehouse, context.places, context.reveal)
        except errors.ReedError as error:
            if not name:
                raise
            planned.extend(_failed(_facts(table, name), error, reading) for table in one.tables)
            return
        try:
            for table in one.tables:
                requests.clear()
                try:
                    found = _plan_table(one, table, warehouse, reading, requests, hash_key, saved, samples)
                except errors.ReedError as error:
                    found = [_failed(_facts(table, name), error, reading)]
                for of_it in found:
                    of_it.warehouse = name
                planned.extend(found)
            for gone in missing_tables(one, warehouse, matched.problems):
                missing, facts = as_missing(one, gone), PlannedTable(gone, "", name)
                if one.on_drift.missing_table == "fail":
                    planned.append(_failed(facts, missing, reading))
                else:
                    facts.warnings.append({"code": missing.code, "words": missing.found})
                    planned.append(facts)
        finally:
            warehouse.close()

    try:
        others = [reading.match_tables(other).order for other in order.others]
        matched = reading.match_tables(order)
        into(matched.order, "")
        for other in others:
            into(other, other.warehouse.warehouse)
        planned += [_failed(PlannedTable(name, ""), error, reading) for name, error in matched.problems.items()]
    finally:
        reading.close()
    return planned


def _facts(table: ResolvedTable, warehouse: str) -> PlannedTable:
    return PlannedTable(table.name, table.target, warehouse, by=table.by, write=table.write, key=table.key)


def _failed(planned: PlannedTable, error: errors.ReedError, reading: SourceSession) -> PlannedTable:
    planned.error = reading.mask.error(error).as_dict()
    return planned


def _plan_table(  # noqa: PLR0913 - all inputs of one plan
    order: ResolvedRun,
    table: ResolvedTable,
    warehouse: Warehouse,
    reading: SourceSession,
    requests: list[RequestSeen],
    hash_key: Callable[[], bytes],
    saved: Mapping[str, SavedCursor | None],
    samples: Samples,
) -> list[PlannedTable]:
    state = warehouse.state(order.feed, table.name)
    change = moved(table, state)
    held = held_of(table, order.feed, warehouse, state)
    start = ReadStart(saved[table.name] if table.name in saved else saved_of(table, state, change), held=held)
    reader = reading.open_reader(table, start)
    request, chunk = _sample(reader, requests, samples.setdefault(table.name, []))
    tracker = reader.tracker
    taken = tracker.take(chunk.records) if tracker else None
    records = taken.records if taken else chunk.records
    shaper = shaper_for(order, table, state)
    shaper.exclude_columns(reader.left_out)
    shaped = shaper.shape(records, 0, suspicious=chunk.suspicious)
    worked = ColumnWork(shaper.rules, hash_key, value_limits=warehouse.value_limits).work(shaped)
    require_column_limit(warehouse.limits, worked.family)
    planned = [_compare(warehouse, table.name, layout) for layout in worked.family.tables]
    first = planned[0]
    first.by, first.write, first.key = table.by, table.write, table.key
    first.cursor_from = reader.from_text
    # Of files there is no end to say: those are taken that are there.
    if (reader.from_text or tracker) and table.by != "files":
        first.cursor_until = order.started.isoformat(timespec="seconds").replace("+00:00", "Z")
    first.request = request
    first.deletes = table.deletes if table.write in KEYED else ""
    first.sample_records, first.sample_rejects = len(records), len(shaped.rejects) + len(worked.rejects)
    first.sample_filtered = worked.filtered
    first.only_nulls = [name for name in shaper.structure.only_null_fields() if name not in shaper.left_out]
    first.unmatched = unused_rules(shaper.rules, shaper.structure) if records else []
    first.warnings = [{"code": code, "words": words} for code, words in blind_spots(order, table)]
    first.warnings += [
        {"code": code, "words": words} for level, code, words in [*reader.notes, *reader.ended_notes] if level == "warning"
    ]
    first.steps, first.losses = change.steps, change.losses
    if shaper.expected:
        first.drift = [{"what": c.what, "words": c.words, "ignored": c.ignored} for c in shaped.changes]
    repeated = taken.repeated if taken else 0
    first.records, first.requests = reader.cost(chunk, repeated)
    if first.requests is not None and requests:
        answering = first.requests * sum(r.seconds for r in requests) / len(requests)
        # The source's pace may take longer than its answers.
        first.seconds = round(max(answering, first.requests / (order.rate_limit.per_second or float("inf"))), 2)
    for child in planned[1:]:
        child.parent = first.table
    return planned


def _sample(reader: TableReader, requests: list[RequestSeen], taken_before: list[Any]) -> tuple[str, Chunk]:
    """(the first request, its first chunk). Warehouses at the same position are shown the same page."""
    for begins, request, chunk, asked in taken_before:
        if begins == reader.begins:
            requests[:] = asked
            return request, chunk
    request, chunks = reader.sample()
    chunk = next(chunks, Chunk([], 0, []))
    close = getattr(chunks, "close", None)
    if close is not None:
        close()
    taken_before.append((reader.begins, request, chunk, list(requests)))
    return request, chunk


def _compare(warehouse: Warehouse, source_table: str, layout: TableLayout) -> PlannedTable:
    there = warehouse.existing(layout.name)
    columns = [{"name": c.name, "type": c.kind} for c in layout.columns]
    if layout.parent is not None:
        columns = [{"name": "_rb_parent", "type": layout.parent_kind}, {"name": "_rb_ordinal", "type": "int64"}, *columns]
    return PlannedTable(
        source_table,
        layout.name,
        exists=there is not None,
        columns=[c for c in columns if there and c["name"] in there],
        new_columns=[c for c in columns if not there or c["name"] not in there],
    )
