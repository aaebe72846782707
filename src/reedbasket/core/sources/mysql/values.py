"""Values as MySQL writes them, converted to our types."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from ...records.column_types import Kind
from ...records.local_times import in_utc
from ..sql.database import field_of
from ..sql.decimals import decimals
from ..sql.slices import as_text
from ..sql.tables import Column
from .binary import NO_DAY, NO_TIME


def to_column(column: Column, values: pa.Array, zone: str) -> tuple[pa.Field, pa.Array]:
    """A column.

    Args:
        values: the text of each, from the log; or values as a statement brings them (see binary.cut_columns).
        zone: of the source, which a datetime is in.

    Raises:
        pyarrow.ArrowInvalid: a value cannot be converted.
    """
    kind = column.kind or "text"
    if values.type != pa.binary():
        return _told(column, kind, values, zone)
    if kind == "binary":
        return field_of(column, kind, values)
    text = as_text(values)
    if kind in ("text", "json", "uuid"):
        return field_of(column, kind, text)
    if kind == "int64":
        return field_of(column, kind, text.cast(pa.int64()))
    if kind == "bool":
        return field_of(column, kind, pc.not_equal(text, "0"))
    if kind == "decimal":
        return decimals(column, text)
    if kind == "double":
        numbers = text.cast(pa.float64())
        if column.declared.startswith("float"):
            numbers = numbers.cast(pa.float32()).cast(pa.string()).cast(pa.float64())
        return field_of(column, kind, numbers)
    if kind == "date":
        return field_of(column, kind, _days(text))
    return field_of(column, kind, _in_zone(_times(text), _zone_of(column, zone)))


def _told(column: Column, kind: Kind, values: pa.Array, zone: str) -> tuple[pa.Field, pa.Array]:
    """Of values that are what they are."""
    if kind == "bool":
        return field_of(column, kind, pc.not_equal(values, 0))
    if kind == "decimal":
        digits = column.whole if column.fraction == 0 else 20
        return field_of(column, kind, values.cast(pa.decimal128(digits, 0)), digits, 0)
    if kind == "timestamp":
        return field_of(column, kind, _in_zone(values.cast(pa.timestamp("us")), _zone_of(column, zone)))
    if kind == "double":
        numbers = values.cast(pa.float64())
        if column.declared.startswith("float"):
            numbers = numbers.cast(pa.float32()).cast(pa.string()).cast(pa.float64())
        return field_of(column, kind, numbers)
    return field_of(column, kind, values.cast({"int64": pa.int64(), "date": pa.date32()}.get(kind, pa.string())))


def _zone_of(column: Column, zone: str) -> str:
    return zone if column.declared.startswith("datetime") else "UTC"


def _days(text: pa.Array) -> pa.Array:
    try:
        return text.cast(pa.date32())
    except pa.ArrowInvalid:
        text = _without_zero(text)
        days = pc.strptime(text, "%Y-%m-%d", "s", error_is_null=True)
        known = pc.equal(pc.strftime(days, "%Y-%m-%d"), text)  # strptime takes the 31st of February for a day in March
        return _marked(days.cast(pa.date32()), known, text, pa.scalar(NO_DAY, pa.int32()).cast(pa.date32()))


def _times(text: pa.Array) -> pa.Array:
    plain = pa.timestamp("us")
    try:
        return text.cast(plain)
    except pa.ArrowInvalid:
        text = _without_zero(text)
        listed = []
        for value in text.to_pylist():
            try:
                listed.append(None if value is None else pa.scalar(value).cast(plain).cast(pa.int64()).as_py())
            except pa.ArrowInvalid:
                listed.append(NO_TIME)
        return pa.array(listed, pa.int64()).cast(plain)


def _in_zone(times: pa.Array, zone: str) -> pa.Array:
    plain = pa.timestamp("us")
    if zone == "UTC":
        return times.cast(pa.timestamp("us", "UTC"))
    bad = pc.equal(times.cast(pa.int64()), NO_TIME)
    inside = pc.if_else(bad, pa.scalar(None, plain), times)
    made = in_utc(inside, zone)
    return pc.if_else(pc.fill_null(bad, False), pa.scalar(NO_TIME, pa.int64()).cast(pa.timestamp("us", "UTC")), made)


def _without_zero(text: pa.Array) -> pa.Array:
    """The date 0000-00-00 is null, as MySQL's own conditions have it."""
    return pc.if_else(pc.fill_null(pc.starts_with(text, "0000-00-00"), False), pa.scalar(None, pa.string()), text)


def _marked(values: pa.Array, known: pa.Array, text: pa.Array, mark: pa.Scalar) -> pa.Array:
    lost = pc.and_(pc.is_valid(text), pc.invert(pc.fill_null(known, False)))
    return pc.if_else(lost, mark, values)
