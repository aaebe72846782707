"""What each type of PostgreSQL becomes, and the SQL that reads it so.

| PostgreSQL | here |
|---|---|
| bool | bool |
| int2, int4, int8, oid | int64 |
| float4, float8 | double; float4 by its shortest text, 0.1 and not 0.10000000149 |
| numeric(p, s), money | decimal; a column that holds NaN or infinity becomes text |
| numeric without precision | decimal, of as many digits as the values have |
| text, varchar, char, name, citext, enum, "char" | text |
| bytea | binary |
| uuid | uuid |
| date, timestamp, timestamptz | date, timestamp; without a zone in the source's `time_zone`; beyond the years 1 to 9999 a reject |
| json, jsonb | json |
| arrays, composites | json, as to_json writes them |
| time, timetz, interval, inet, cidr, macaddr, bit, ranges, xml, geometry, tsvector, others | text, as PostgreSQL writes it |
| a domain | what it is made of |
"""

from __future__ import annotations

from dataclasses import dataclass

from ...records.column_types import Kind

# 38 digits are what decimal128 holds; numerics of more are read as text and made decimals one by one.
_MOST_DIGITS = 38
_PLAIN: dict[str, Kind] = {
    "bool": "bool", "int2": "int64", "int4": "int64", "int8": "int64", "float8": "double", "text": "text", "varchar": "text",
    "bytea": "binary", "date": "date", "timestamptz": "timestamp",
}  # fmt: skip
_BY_CAST: dict[str, tuple[Kind, str]] = {
    "oid": ("int64", "{}::int8"),
    "float4": ("double", "{}::text::float8"),
    "money": ("decimal", "{}::numeric::text"),
    "uuid": ("uuid", "{}::text"),
    "timestamp": ("timestamp", "{}::timestamptz"),
    "json": ("json", "{}::text"),
    "jsonb": ("json", "{}::text"),
}


@dataclass(frozen=True)
class PgType:
    """A row of pg_type.

    Attributes:
        base: the type that a domain is based on.
        modifier: of the domain.
    """

    name: str
    what: str
    category: str
    base: int
    modifier: int


@dataclass(frozen=True)
class Read:
    """How a column is read.

    Attributes:
        kind: its type in the warehouse.
        expression: SQL with {} for the quoted name.
        whole, fraction: digits of decimals; -1 if the type does not say.
    """

    kind: Kind
    expression: str
    whole: int = -1
    fraction: int = -1


def read_as(types: dict[int, PgType], oid: int, modifier: int) -> Read:
    """How a column of a type is read.

    Args:
        modifier: atttypmod.
    """
    found = types[oid]
    while found.what == "d":
        modifier = found.modifier if modifier < 0 else modifier
        found = types[found.base]
    if found.name in _PLAIN:
        return Read(_PLAIN[found.name], "{}")
    if found.name == "numeric":
        return _numeric(modifier)
    if found.name in _BY_CAST:
        return Read(*_BY_CAST[found.name])
    if found.category == "A" or found.what == "c":
        return Read("json", "to_json({})::text")
    return Read("text", "{}::text")


def _numeric(modifier: int) -> Read:
    """numeric's modifier is ((precision << 16) | (scale & 0x7ff)) + 4; scales may be negative since PostgreSQL 15."""
    if modifier < 4:
        return Read("decimal", "{}::text")
    precision, scale = (modifier - 4) >> 16 & 0xFFFF, (modifier - 4) & 0x7FF
    scale = scale - 0x800 if scale >= 0x400 else scale
    whole, fraction = max(precision - scale, 0), max(scale, 0)
    if whole + fraction > _MOST_DIGITS:
        return Read("decimal", "{}::text")
    return Read("decimal", "{}::text", whole, fraction)
