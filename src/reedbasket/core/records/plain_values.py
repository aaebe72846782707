"""Columns as records, with each value as it would be in JSON."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

import pyarrow as pa

from .arrow import one_array
from .column_types import ColumnData, Kind

# Days of the years 1 to 9999: what every one of our warehouses can hold, and Python too.
DAYS = (-719_162, 2_932_896)
# PostgreSQL's infinities are its largest and smallest numbers; finite times reach the year 294276, days the year 5874897.
_DAY_MICROS = 86_400_000_000
_INFINITE_MICROS, _INFINITE_DAYS = 2**63 - 2, 2_145_042_905


def plain_values(kind: Kind, values: ColumnData) -> list[Any]:
    """Values as they would be in JSON: times as text, decimals as they are."""
    if isinstance(values, list):
        return values
    if kind == "timestamp":
        micros: list[int | None] = values.cast(pa.timestamp("us", "UTC")).view(pa.int64()).to_pylist()
        return [None if v is None else _time_text(v) for v in micros]
    if kind == "date":
        days: list[int | None] = values.view(pa.int32()).to_pylist()
        return [None if v is None else _date_text(v) for v in days]
    if kind == "binary":
        return [None if v is None else v.hex() for v in values.to_pylist()]
    listed: list[Any] = values.to_pylist()
    return listed


def as_records(table: pa.Table) -> list[dict[str, Any]]:
    """The rows as objects."""
    columns = [
        plain_values(field.metadata[b"kind"].decode(), one_array(values)) for field, values in zip(table.schema, table.columns)
    ]
    names = table.column_names
    return [dict(zip(names, row)) for row in zip(*columns)]


def _time_text(micros: int) -> str:
    days, rest = divmod(micros, _DAY_MICROS)
    seconds, fraction = divmod(rest, 1_000_000)
    if abs(micros) > _INFINITE_MICROS:
        return "infinity" if micros > 0 else "-infinity"
    day, _, era = _date_text(days).partition(" ")
    clock = f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}" + (f".{fraction:06}" if fraction else "")
    return f"{day}T{clock}Z{' ' + era if era else ''}"


def _date_text(days: int) -> str:
    """A date as PostgreSQL writes it: years of five digits and more, years before 1 with BC, infinity."""
    if abs(days) > _INFINITE_DAYS:
        return "infinity" if days > 0 else "-infinity"
    if DAYS[0] <= days <= DAYS[1]:
        return (date(1970, 1, 1) + timedelta(days=days)).isoformat()
    # 400 years have as many days each time: a year like it that Python has, and how many times 400 lie between.
    cycles, within = divmod(days - DAYS[0], 146_097)
    like = date(1, 1, 1) + timedelta(days=within)
    year = like.year + 400 * cycles
    written, era = (year, "") if year > 0 else (1 - year, " BC")
    return f"{written:04}-{like.month:02}-{like.day:02}{era}"
