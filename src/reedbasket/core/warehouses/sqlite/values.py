"""Values as SQLite stores them, and inserting many rows at a time."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterable
from datetime import datetime
from decimal import Context, Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ...records.column_types import ColumnData, Kind
from ...records.exact_json import dump
from .times import date_texts, time_texts

_EXACT = Context(prec=100)
_TIME = pa.timestamp("us", "UTC")
# With no more digits behind the point than this, no number is so small that Arrow writes it with an exponent.
_PLAIN_SCALE = 6
# Many rows in one statement: 50 at a time are 1.3 times as fast as executemany, and the lock that Python threads share is
# let go once for all of them, so that the reader thread runs meanwhile.
ROWS_PER_STATEMENT = 50
# SQLite's own bound on parameters in a statement (SQLITE_MAX_VARIABLE_NUMBER, since 3.32).
MOST_PARAMETERS = 32_000

# What is neither a number nor text sqlite3 asks how to adapt, by failing at two look-ups: 0.9 us a value. An adapter is found at once;
# these leave values as they are.
sqlite3.register_adapter(type(None), {None: None}.__getitem__)
sqlite3.register_adapter(bytes, bytes)


def insert_rows(
    connection: sqlite3.Connection, table: str, into: str, columns: list[Any], constants: Iterable[str] = ()
) -> None:
    """Insert rows.

    Args:
        table: as SQL.
        into: the columns, as SQL.
        constants: SQL for the last columns, the same in each row.
    """
    width = len(columns)
    one = "(" + ",".join(["?"] * width + list(constants)) + ")"
    many = max(1, min(ROWS_PER_STATEMENT, MOST_PARAMETERS // width))
    begin = f"insert into {table} ({into}) values "
    rows = len(columns[0])
    whole = rows // many * many
    statement = begin + ",".join([one] * many)
    # Column by column into every nth place: half of what going over the rows takes, and few enough to stay in the processor's cache.
    flat: list[Any] = [None] * (width * many)
    for start in range(0, whole, many):
        for place, column in enumerate(columns):
            flat[place::width] = column[start : start + many]
        connection.execute(statement, flat)
    if rows > whole:
        flat = [None] * (width * (rows - whole))
        for place, column in enumerate(columns):
            flat[place::width] = column[whole:]
        connection.execute(begin + ",".join([one] * (rows - whole)), flat)


def bindable(kind: Kind, data: ColumnData) -> list[Any]:
    """Values as sqlite3 binds them. Timestamps become '2026-03-02 06:00:00.000000Z': such texts sort as times, name their zone, and work
    with SQLite's own date functions. NaN becomes text, because SQLite would store it as null.
    """
    if isinstance(data, pa.Array | pa.ChunkedArray):
        if kind == "timestamp":
            return time_texts(data if data.type == _TIME else data.cast(_TIME))
        if kind == "date":
            return date_texts(data)
        if kind == "decimal":
            return _decimal_texts(data)
        if kind == "bool":
            data = data.cast(pa.uint8())  # bound in a sixth of the time
        odd = kind == "double" and pa.types.is_floating(data.type) and pc.any(pc.is_nan(data)).as_py()
        as_list: list[Any] = data.to_pylist()
        return [("NaN" if v != v else v) for v in as_list] if odd else as_list
    if kind == "decimal":
        return [None if v is None else format(v, "f") for v in data]
    if kind == "bool":
        return [v if v is None else int(v) for v in data]
    if kind == "double" and _may_hold_nan(data) and any(v != v for v in data):
        return [("NaN" if v != v else v) for v in data]
    return data


def _decimal_texts(data: pa.Array | pa.ChunkedArray) -> list[Any]:
    """Decimals as text without trailing zeros, so that equal numbers are equal texts whatever their batch's scale."""
    text = data.cast(pa.string())
    # Arrow writes very small ones with an exponent.
    if data.type.scale > _PLAIN_SCALE and pc.any(pc.match_substring(text, "E")).as_py():
        return [None if v is None else format(v.normalize(_EXACT) if v else Decimal(0), "f") for v in data.to_pylist()]
    if data.type.scale > 0:
        text = pc.utf8_rtrim(pc.utf8_rtrim(text, "0"), ".")
    listed: list[Any] = text.to_pylist()
    return listed


def _may_hold_nan(data: Any) -> bool:
    """Whether there may be a NaN: a sum is NaN if a value is (or if infinities of both signs are added), and takes an eighth of the time
    of looking at each.
    """
    try:
        total = sum(data)
    except TypeError:  # nulls among them
        total = sum(value for value in data if value is not None)
    return bool(total != total)


def converter(before: Kind, after: Kind) -> Callable[[Any], Any]:
    """A function that converts a stored value of one type to a wider type."""
    if after == "json":
        if before == "bool":
            return lambda v: None if v is None else "true" if v else "false"
        if before == "decimal":
            return lambda v: v
        if before == "timestamp":
            return lambda v: None if v is None else json.dumps(timestamp_as_text(v))
        return lambda v: None if v is None else dump(v)
    if after == "timestamp":
        return lambda v: None if v is None else f"{v} 00:00:00.000000Z"
    if before == "timestamp":
        return lambda v: None if v is None else timestamp_as_text(v)
    if after in ("text", "decimal"):
        # SQLite's own cast to text keeps 15 digits of a double; Python's repr keeps what it takes to read it back.
        return _exact if after == "decimal" else (lambda v: v if v is None else str(v))
    return lambda v: None if v is None else float(v)


def _exact(value: Any) -> Any:
    if value is None or isinstance(value, str):
        return value
    text = format(Decimal(repr(value)), "f")
    return text.rstrip("0").rstrip(".") if "." in text else text


def timestamp_as_text(held: str) -> str:
    """'2026-03-02 06:00:00.000000Z' -> '2026-03-02T06:00:00Z'."""
    moment = datetime.fromisoformat(held)
    text = moment.strftime("%Y-%m-%dT%H:%M:%S")
    return text + (f".{moment.microsecond:06d}" if moment.microsecond else "") + "Z"
