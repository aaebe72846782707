"""Records that say themselves that they are deleted."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from ...records.change_records import ChangeRecords
from ...records.column_records import value_at
from ...records.plain_values import plain_values
from ...shaping.batch import Reject, TableBatch
from ...spec.http import HttpTable


def tombstone_test(rule: HttpTable) -> Callable[[Mapping[str, Any]], bool] | None:
    """A test of whether a record is a tombstone, by the table's `deleted_when`; None if the table has no such rule.

    The field may lie inside objects (`meta.gone`). It counts as not set if it is null, false, zero or empty.
    """
    said = rule.deleted_when
    if said is None:
        return None
    if isinstance(said, str):
        return lambda record: bool(_at(record, said))
    return lambda record: all(_at(record, field) == value for field, value in said.items())


def _at(record: Any, field: str) -> Any:
    for step in field.split("."):
        record = record.get(step) if isinstance(record, Mapping) else None
    return record


def keys_of(rows: TableBatch, columns: Sequence[str]) -> set[tuple[str, ...]]:
    """The keys of rows, each value as text, as records have them."""
    return set(zip(*(map(str, plain_values(*rows.columns[name])) for name in columns)))


def ended_by(records: Sequence[dict[str, Any]], rejects: Sequence[Reject], key: Sequence[str]) -> set[tuple[str, ...]]:
    """The keys of rejected records of a change log whose last change in the batch is a delete."""
    if not isinstance(records, ChangeRecords):
        return set()
    last = dict(zip((_key(record, key) for record in records), records.logged.gone))
    return {found for reject in rejects if last.get(found := _key(reject.record, key))}


def _key(record: Any, key: Sequence[str]) -> tuple[str, ...]:
    return tuple(str(value_at(record, name)) for name in key)
