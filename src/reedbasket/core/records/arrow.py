"""Columns as Arrow arrays, in the types that engines receive."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa

from .column_types import MOST_DIGITS, ColumnData, Kind
from .structure import ColumnShape

# What decimal128 holds; DuckDB's DECIMAL too.
DIGITS_OF_128 = 38

_TYPES: dict[Kind, pa.DataType] = {
    "bool": pa.bool_(),
    "int64": pa.int64(),
    "double": pa.float64(),
    "text": pa.string(),
    "date": pa.date32(),
    "timestamp": pa.timestamp("us", "UTC"),
    "json": pa.string(),
    "binary": pa.binary(),
    "uuid": pa.string(),
}


def arrow_type(column: ColumnShape) -> pa.DataType:
    """For decimals as many digits as occurred: decimal128 if they fit, otherwise decimal256."""
    if column.kind != "decimal":
        return _TYPES[column.kind]
    if column.whole + column.fraction <= DIGITS_OF_128:
        return pa.decimal128(DIGITS_OF_128, column.fraction)
    return pa.decimal256(MOST_DIGITS, column.fraction)


def one_array(values: pa.ChunkedArray) -> pa.Array:
    """All values in one array; not copied if they are in one already, which `combine_chunks` would do even then."""
    return values.chunk(0) if values.num_chunks == 1 else values.combine_chunks()


def to_arrow(column: ColumnShape, kind: Kind, data: ColumnData) -> pa.Array:
    """Data of `kind` in the column's type, which may be wider."""
    wanted = arrow_type(column)
    if kind != column.kind:
        data = _wider(kind, column.kind, data)
    if isinstance(data, pa.Array | pa.ChunkedArray):
        return data if data.type == wanted else data.cast(wanted)
    return pa.array(data, wanted)


def loader_column(kind: Kind, values: Sequence[Any]) -> pa.Array:
    """One of the loader's own columns: integers, or text if some may still be numbers."""
    if kind == "int64":
        # Most are ranges, which pa.array walks at a quarter of a microsecond a number.
        if isinstance(values, range):
            return pa.arange(values.start, values.stop, values.step)
        return pa.array(values, pa.int64())
    return pa.array([v if v is None or isinstance(v, str) else str(v) for v in values], pa.string())


def _wider(before: Kind, after: Kind, data: ColumnData) -> ColumnData:
    if isinstance(data, list) and after == "decimal":
        return [None if v is None else Decimal(repr(v) if isinstance(v, float) else v) for v in data]
    return data


def kind_of_arrow(found: pa.DataType) -> tuple[Kind, Any] | None:
    """(type of ours, the type to cast to first or None) for an expression's result; None if there is no such type."""
    if pa.types.is_boolean(found):
        return "bool", None
    if pa.types.is_integer(found):
        return ("int64", pa.int64()) if found != pa.uint64() else ("decimal", pa.decimal128(38, 0))
    if pa.types.is_floating(found):
        return "double", pa.float64()
    if pa.types.is_decimal(found):
        return "decimal", None
    if pa.types.is_string(found) or pa.types.is_large_string(found):
        return "text", pa.string()
    if pa.types.is_date(found):
        return "date", pa.date32()
    if pa.types.is_timestamp(found):
        return "timestamp", pa.timestamp("us", "UTC")
    if pa.types.is_null(found):
        return "text", pa.string()
    return ("binary", pa.binary()) if pa.types.is_binary(found) else None
