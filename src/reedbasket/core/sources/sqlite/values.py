"""Columns of SQLite, whose values may be of any type, whatever the column declares.

If every value is what the declaration says, the column is of that type; otherwise the values decide, as they do for JSON. Declared types
go by their names, in the order of SQLite's own rules (datatype3.html, 3.1), with times and booleans before them.
"""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import pyarrow.compute as pc

from ...records.arrow import arrow_type
from ...records.column_types import Kind
from ...records.local_times import in_utc
from ...records.structure import ColumnShape
from ...shaping.values import digits, fit, infer
from ..sql.database import field_of
from ..sql.tables import Column

# First match counts.
_KINDS: tuple[tuple[str, Kind], ...] = (
    ("BOOL", "bool"), ("DATETIME", "timestamp"), ("TIMESTAMP", "timestamp"), ("DATE", "date"), ("TIME", "text"), ("UUID", "uuid"),
    ("JSON", "json"), ("INT", "int64"), ("CHAR", "text"), ("CLOB", "text"), ("TEXT", "text"), ("BLOB", "binary"),
    ("REAL", "double"), ("FLOA", "double"), ("DOUB", "double"), ("DEC", "decimal"), ("NUMERIC", "decimal"), ("MONEY", "decimal"),
)  # fmt: skip
_NO_ZONE = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?")
_NONE = type(None)


def declared_kind(declared: str) -> Kind | None:
    """What a declared type says about its values; None for nothing."""
    upper = declared.upper()
    return next((kind for word, kind in _KINDS if word in upper), None)


def column_of(column: Column, values: list[Any], zone: ZoneInfo) -> tuple[pa.Field, pa.Array]:
    """A column of values, each of which may be of any type."""
    types = set(map(type, values)) - {_NONE}
    if not types:
        kind = column.kind or "text"
        return field_of(column, kind, pa.nulls(len(values), arrow_type(ColumnShape("", kind, 1, 0))), 1, 0)
    made = _as_declared(column.kind, values, types, zone) if column.kind else None
    if made is None:
        made = _as_met(values, types)
    kind, data, (whole, fraction) = made
    array = data if isinstance(data, pa.Array) else pa.array(data, arrow_type(ColumnShape("", kind, whole, fraction)))
    return field_of(column, kind, array, whole, fraction)


def _as_declared(kind: Kind | None, values: list[Any], types: set[type], zone: ZoneInfo) -> Any:
    """(kind, data, digits), or None where a value is something else."""
    plain: tuple[int, int] = (-1, -1)
    if kind == "int64" and types == {int}:
        return kind, values, plain
    if kind in ("text", "uuid", "json") and types == {str}:
        return kind, values, plain
    if kind == "double" and types <= {int, float}:
        return kind, [None if v is None else float(v) for v in values], plain
    if kind == "binary" and types == {bytes}:
        return kind, values, plain
    if kind == "bool" and types == {int} and set(values) <= {0, 1, None}:
        return kind, [None if v is None else bool(v) for v in values], plain
    if kind == "decimal" and types <= {int, float}:
        numbers = [None if v is None else Decimal(repr(v)) for v in values]
        if all(v is None or v.is_finite() for v in numbers):
            whole, fraction = digits(numbers)
            return (kind, numbers, (max(whole, 1), max(fraction, 0))) if whole + fraction <= 76 else None
    if kind in ("date", "timestamp") and types == {str}:
        try:
            return kind, _times(kind, values, zone), plain
        except (pa.ArrowInvalid, ValueError):
            return None
    return None


def _times(kind: Kind, values: list[Any], zone: ZoneInfo) -> pa.Array:
    text = pa.array(values, pa.string())
    if kind == "date":
        return text.cast(pa.date32())
    if pc.any(pc.match_substring_regex(text, f"^{_NO_ZONE.pattern}$")).as_py():
        # A mix is possible: those that name no zone are in the source's, the others in their own.
        bare = pc.match_substring_regex(text, f"^{_NO_ZONE.pattern}$")
        local = pc.if_else(bare, text, pa.scalar(None, pa.string())).cast(pa.timestamp("us"))
        here = in_utc(local, zone.key)
        named = pc.if_else(bare, pa.scalar(None, pa.string()), text).cast(pa.timestamp("us", "UTC"))
        return pc.coalesce(here, named)
    return text.cast(pa.timestamp("us", "UTC"))


def _as_met(values: list[Any], types: set[type]) -> Any:
    if types == {bytes}:
        return "binary", values, (-1, -1)
    if bytes in types:  # beside other types: shown as SQL writes them
        values = [f"x'{v.hex()}'" if isinstance(v, bytes) else v for v in values]
    kind = infer(values)
    assert kind is not None
    kind, data, _ = fit(values, kind, wider=True)
    whole, fraction = digits(data) if kind == "decimal" and isinstance(data, list) else (-1, -1)
    return kind, data, (max(whole, 1), max(fraction, 0)) if kind == "decimal" else (-1, -1)
