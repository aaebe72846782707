"""Records that say of themselves that they are gone."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ..spec.http import HttpTable


def tombstone_test(rule: HttpTable) -> Callable[[Mapping[str, Any]], bool] | None:
    """Whether a record is one, by the rule's `deleted`; None where the table knows none. A field may lie inside objects: `meta.gone`.
    One that is null, false, zero or empty is not set."""
    said = rule.deleted
    if said is None:
        return None
    if isinstance(said, str):
        return lambda record: bool(_at(record, said))
    return lambda record: all(_at(record, field) == value for field, value in said.items())


def _at(record: Any, field: str) -> Any:
    for step in field.split("."):
        record = record.get(step) if isinstance(record, Mapping) else None
    return record
