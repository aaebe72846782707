"""Values as PostgreSQL's log writes them, as text, converted to our types: equal to what a SELECT would bring."""

from __future__ import annotations

from collections.abc import Callable

import pyarrow as pa
import pyarrow.compute as pc

from ..sql.database import field_of
from ..sql.decimals import decimals
from ..sql.tables import Column
from .types import PgType

# Types whose cast to text is just what the log says; of others the server is asked.
_AS_TOLD = {
    "text", "varchar", "uuid", "json", "jsonb", "time", "timetz", "interval", "xml", "bit", "varbit", "macaddr", "macaddr8",
    "tsvector", "point", "line", "lseg", "box", "path", "polygon", "circle",
}  # fmt: skip
_ON_EDGE = {
    "date": "case when {} is null then null when isfinite({}) then ({} - date '1970-01-01')::int8 "
    "when {} > '2000-01-01' then 2147483647 else -2147483648 end",
    "timestamp": "case when {} is null then null when isfinite({}) then trunc(extract(epoch from {}) * 1000000)::int8 "
    "when {} > '2000-01-01' then 9223372036854775807 else -9223372036854775808 end",
}

Ask = Callable[[str, pa.Array], pa.Array]


def to_column(column: Column, base: PgType, text: pa.Array, ask: Ask, *, utc: bool) -> tuple[pa.Field, pa.Array]:
    """A column.

    Args:
        base: the column's type; for a domain, the type that it is based on.
        ask: evaluates an SQL expression over {} for each value, which the server casts to the column's type; returns text.
        utc: times without a zone are in UTC.
    """
    kind = column.kind or "text"
    local = _local(column, base, text, utc=utc)
    if local is not None:
        return local
    if kind in ("date", "timestamp"):
        edge = _ON_EDGE[kind].replace("{}", column.select)
        numbers = ask(edge, text).cast(pa.int64())
        if kind == "date":
            return field_of(column, kind, numbers.cast(pa.int32()).view(pa.date32()))
        return field_of(column, kind, numbers.view(pa.timestamp("us", "UTC")))
    made = ask(column.select + ("::text" if kind not in ("text", "json") else ""), text)
    if kind == "decimal":
        return decimals(column, made)
    types = {"int64": pa.int64(), "double": pa.float64(), "bool": pa.bool_()}
    return field_of(column, kind, made.cast(types[kind]) if kind in types else made)


def _local(column: Column, base: PgType, text: pa.Array, *, utc: bool) -> tuple[pa.Field, pa.Array] | None:
    """None where the server has to be asked."""
    name, kind = base.name, column.kind
    as_told = name in _AS_TOLD or base.what in "erm"
    if kind in ("text", "json", "uuid"):
        return field_of(column, kind, text) if as_told and base.category != "A" else None
    if kind == "bool":
        return field_of(column, kind, pc.equal(text, "t"))
    if kind == "int64":
        return field_of(column, kind, text.cast(pa.int64()))
    if kind == "double":
        return field_of(column, kind, text.cast(pa.float64()))
    if kind == "decimal" and name == "numeric":
        return decimals(column, text)
    if kind == "binary":
        return field_of(
            column, kind, pa.array([None if v is None else bytes.fromhex(v[2:]) for v in text.to_pylist()], pa.binary())
        )
    try:
        if kind == "date":
            return field_of(column, kind, text.cast(pa.date32()))
        if kind == "timestamp" and name == "timestamptz":
            return field_of(column, kind, text.cast(pa.timestamp("us", "UTC")))
        if kind == "timestamp" and utc:
            return field_of(column, kind, text.cast(pa.timestamp("us")).cast(pa.timestamp("us", "UTC")))
    except pa.ArrowInvalid:
        return None  # infinity, or years that only PostgreSQL writes
    return None
