"""The keys of rejected records, as far as they can be read: their rows still exist at the source."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..records.column_records import value_at
from ..records.layout import Family
from .batch import TableBatch
from .columns import ColumnWork


def rejected_keys(family: Family, shaper: Any, key: Sequence[str], records: Sequence[Any]) -> TableBatch | None:
    """The keys of rejected records, as far as they can be read; None if none can."""
    found = []
    for record in records:
        if has_key(record, key):
            found.append(_record_of(key, [value_at(record, name) for name in key]))
    if not found or not family.key:
        return None
    probe = type(shaper)(shaper.structure.copy(), key, "row", shaper.rules)
    shaped = probe.shape(found, 0)
    renamed = ColumnWork(shaper.rules, bytes).renames("")
    if not shaped.records:
        return None
    columns = {renamed.get(name, name): held for name, held in shaped.batches[0].columns.items()}
    return TableBatch(
        family.root.name, shaped.records, range(shaped.records), columns={n: columns[n] for n in family.key if n in columns}
    )


def has_key(record: Any, key: Sequence[str]) -> bool:
    """Whether a rejected record has a readable key."""
    return not any(value is None or isinstance(value, dict | list) for value in (value_at(record, name) for name in key))


def _record_of(key: Sequence[str], values: Sequence[Any]) -> dict[str, Any]:
    """A record of nothing but its key, whose fields may lie inside objects."""
    made: dict[str, Any] = {}
    for name, value in zip(key, values):
        *above, last = name.split(".")
        place = made
        for step in above:
            place = place.setdefault(step, {})
        place[last] = value
    return made
