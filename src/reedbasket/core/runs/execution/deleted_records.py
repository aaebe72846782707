"""Records that say of themselves that they are gone."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from ...records.change_records import LoggedRecords
from ...records.column_records import value_at
from ...records.plain_values import plain_values
from ...shaping.batch import Reject, TableBatch
from ...spec.http import HttpTable


def tombstone_test(rule: HttpTable) -> Callable[[Mapping[str, Any]], bool] | None:
    """Whether a record is one, by the rule's `deleted_when`; None where the table knows none. A field may lie inside objects: `meta.gone`.
    One that is null, false, zero or empty is not set."""
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
    """As records have them, each value as text."""
    return set(zip(*(map(str, plain_values(*rows.columns[name])) for name in columns)))


def ended_by(records: Sequence[dict[str, Any]], rejects: Sequence[Reject], key: Sequence[str]) -> set[tuple[str, ...]]:
    """Keys of what was rejected out of one batch of a log, whose last change in it is that they have gone."""
    if not isinstance(records, LoggedRecords):
        return set()
    last = dict(zip((_key(record, key) for record in records), records.logged.gone))
    return {found for reject in rejects if last.get(found := _key(reject.record, key))}


def _key(record: Any, key: Sequence[str]) -> tuple[str, ...]:
    return tuple(str(value_at(record, name)) for name in key)
