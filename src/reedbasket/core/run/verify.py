"""Does the warehouse hold what the source shows? Everything is read once more, and compared inside the engine."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from .. import errors
from ..extract.http import HttpReader, Sender
from ..extract.pace import Pacer
from ..load import Differences, LoadTarget, Warehouse, open_warehouse
from ..load.along import Transition
from ..masking import Mask
from ..shape.columns import ColumnWork
from ..spec import template
from .order import RunOrder, TableOrder, credentials_of, mask_for
from .table import shaper_for, tracker_for

_MOST_SAMPLES = 5


@dataclass
class VerifiedTable:
    """One table. deep: values were compared, not only keys. same: nothing differs, as far as was looked.

    lacking: columns that the source shows and the warehouse has not got yet. samples: [{what, key, values: {column: [source's,
    warehouse's]}}], the first few of each kind. rejected, filtered: records that the run would not load either, and so are not
    held against the warehouse.
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
        return asdict(self)


def verify_feed(
    order: RunOrder,
    *,
    deep: bool,
    only: str | None,
    reveal: Callable[[str], str],
    folder: Path,
    pacer: Pacer,
    stop: threading.Event,
) -> list[VerifiedTable]:
    """Each table of the order with its child tables, or `only` that one. An error of one table stands with it. Raises
    ReedError for the rest."""
    revealed = {setting: reveal(name) for setting, name in order.secrets.items()}
    mask, values = mask_for(order, revealed), order.values(revealed)
    warehouse = open_warehouse(order.warehouse, folder, reveal)
    found = []
    try:
        for table in order.tables:
            if only is not None and table.name != only:
                continue
            try:
                found += _verify(order, table, warehouse, values, mask, reveal, pacer, stop, deep=deep)
            except errors.ReedError as error:
                found.append(VerifiedTable(table.name, table.target, deep, error=mask.error(error).as_dict()))
    finally:
        warehouse.close()
    return found


def _verify(
    order: RunOrder,
    table: TableOrder,
    warehouse: Warehouse,
    values: dict[str, Any],
    mask: Mask,
    reveal: Callable[[str], str],
    pacer: Pacer,
    stop: threading.Event,
    *,
    deep: bool,
) -> list[VerifiedTable]:
    state = warehouse.state(order.feed, table.name)
    # From the very beginning: what the cursor has passed is just what is to be verified.
    tracker = tracker_for(order, table, None, Transition(), values)
    if tracker:
        values = values | {"cursor.from": tracker.request_from}
    sender = Sender(
        timeouts=order.timeouts,
        retry=order.retry,
        pacer=pacer,
        stop=stop,
        mask=mask,
        seen=lambda _: None,
        credentials=credentials_of(order, values),
    )
    shaper = shaper_for(order, table, state)
    columns = ColumnWork(shaper.rules, lambda: reveal(order.hash_with).encode(), nul_in_text=warehouse.nul_in_text)
    # Read as a merge would, so that the stage is filled and nothing is built.
    target = LoadTarget(
        order.run, order.feed, order.source, table.name, table.target, table.write, table.key, table.link, again=True
    )
    load = warehouse.begin(target, state or _nothing(table))
    try:
        reader = HttpReader(table.name, template.fill(order.base, values) or "", table.rule, sender, values)
        owner = rejected = filtered = 0
        for chunk in reader.chunks():
            records = tracker.take(chunk.records).records if tracker else chunk.records
            shaped = shaper.shape(records, owner, suspicious=chunk.suspicious)
            owner += shaped.records
            worked = columns.work(shaped)
            rejected += len(shaped.rejects) + len(worked.rejects) + len(chunk.misfits)
            filtered += worked.filtered
            load.stage(worked.family, worked.batches)
        family = columns.lay_out(shaper.family)
        found = load.differences(family, deep=deep, samples=_MOST_SAMPLES)
    finally:
        load.close()
        sender.close()
    verified = [_verified(table.name, one, deep=deep) for one in found]
    verified[0].rejected, verified[0].filtered = rejected, filtered
    return verified


def _verified(source_table: str, found: Differences, *, deep: bool) -> VerifiedTable:
    counted = (found.only_source, found.only_warehouse, found.differing)
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
        same=found.source == found.warehouse and not any(counted) and not found.lacking,
        lacking=found.lacking,
        samples=samples,
    )


def _nothing(table: TableOrder) -> Any:
    from ..load import TableState
    from ..shape import TableShape

    return TableState(0, TableShape(table.target), None, table.link, table.key)
