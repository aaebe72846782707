"""What each type of MySQL and MariaDB becomes, and the SQL that reads it so.

| MySQL | here |
|---|---|
| tinyint, smallint, mediumint, int, bigint, year | int64; bool is tinyint(1), and so int64 too |
| bigint unsigned, bit(64) | decimal, of 20 digits |
| bit(1) | bool; bit(2) to bit(63) int64 |
| decimal(p, s) | decimal |
| double | double; float by its shortest text, 0.1 and not 0.10000000149 |
| char, varchar, text, enum, set | text |
| binary, varbinary, blob | binary |
| date, datetime, timestamp | date, timestamp; datetime in its `time_zone`. 0000-00-00 is null, as it is in a condition; a day that no \
calendar has is a reject |
| time | text, as the database writes it: it may be beyond 24 hours, or negative |
| json | json, also MariaDB's, which is longtext with a check |
| uuid (MariaDB) | uuid |
| inet4, inet6, vector, others | text |
| geometry | text, as ST_AsText writes it |
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from pymysql.constants import FIELD_TYPE, FLAG

from ...records.column_types import Kind
from ..sql.tables import Column

# What decimal128 holds; decimals of more digits are made one by one.
_MOST_DIGITS = 38
_WHOLE = {"tinyint", "smallint", "mediumint", "int", "bigint", "year"}
_GEOMETRY = {"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection",
             "geomcollection"}  # fmt: skip
_BY_NAME: dict[str, tuple[Kind, str]] = {
    "float": ("double", "cast({} as double)"), "double": ("double", "{}"), "date": ("date", "{}"),
    "datetime": ("timestamp", "{}"), "timestamp": ("timestamp", "{}"), "json": ("json", "{}"), "uuid": ("uuid", "{}"),
    **dict.fromkeys(("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set"), ("text", "{}")),
    "time": ("text", "cast({} as char)"),
    **dict.fromkeys(("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"), ("binary", "{}")),
    **dict.fromkeys(_GEOMETRY, ("text", "st_astext({})")),
}  # fmt: skip


@dataclass(frozen=True)
class DeclaredType:
    """A type as information_schema writes it, `decimal(12,2) unsigned`, parsed."""

    name: str
    sizes: tuple[int, ...]
    unsigned: bool

    @classmethod
    def parse(cls, text: str) -> DeclaredType:
        """Parse a type from the catalog."""
        found = re.match(r"\s*(\w+)(?:\(([\d,\s]+)\))?", text.lower())
        assert found is not None, text
        sizes = tuple(int(size) for size in found[2].split(",")) if found[2] else ()
        return cls(found[1], sizes, " unsigned" in text.lower())


def column_of(name: str, declared: str, nullable: bool, *, is_json: bool = False) -> Column:
    """A column of a table.

    Args:
        is_json: MariaDB's JSON, whose type is text.
    """
    said = DeclaredType.parse(declared)
    if is_json:
        return Column(name, "json", "json", "{}", nullable)
    if said.name == "decimal":
        whole, fraction = said.sizes if len(said.sizes) == 2 else ((said.sizes or (10,))[0], 0)
        if whole > _MOST_DIGITS:
            return Column(name, declared, "decimal", "{}", nullable)
        return Column(name, declared, "decimal", "{}", nullable, whole - fraction, fraction)
    if said.name == "bigint" and said.unsigned:
        return Column(name, declared, "decimal", "{}", nullable, 20, 0)
    if said.name in _WHOLE:
        return Column(name, declared, "int64", "{}", nullable)
    if said.name == "bit":
        size = (said.sizes or (1,))[0]
        if size == 64:
            return Column(name, declared, "decimal", "({} + 0)", nullable, 20, 0)
        return Column(name, declared, "bool" if size == 1 else "int64", "({} + 0)", nullable)
    kind, select = _BY_NAME.get(said.name, ("text", "cast({} as char)"))
    return Column(name, declared, kind, select, nullable)


_BINARY_SET = 63
_OF_FIELD = {
    FIELD_TYPE.TINY: "tinyint", FIELD_TYPE.SHORT: "smallint", FIELD_TYPE.INT24: "mediumint", FIELD_TYPE.LONG: "int",
    FIELD_TYPE.LONGLONG: "bigint", FIELD_TYPE.YEAR: "year", FIELD_TYPE.FLOAT: "float", FIELD_TYPE.DOUBLE: "double",
    FIELD_TYPE.DATE: "date", FIELD_TYPE.NEWDATE: "date", FIELD_TYPE.DATETIME: "datetime", FIELD_TYPE.TIMESTAMP: "timestamp",
    FIELD_TYPE.TIME: "time", FIELD_TYPE.JSON: "json", FIELD_TYPE.GEOMETRY: "geometry",
}  # fmt: skip


def column_of_field(name: str, code: int, flags: int, charset: int, length: int, scale: int) -> Column:
    """A column of a query, from what the server says about its result."""
    unsigned = bool(flags & FLAG.UNSIGNED)
    if code in (FIELD_TYPE.DECIMAL, FIELD_TYPE.NEWDECIMAL):
        digits = length - (1 if scale else 0) - (0 if unsigned else 1)
        return column_of(name, f"decimal({digits},{scale})", True)
    if code == FIELD_TYPE.BIT:
        return column_of(name, f"bit({length})", True)
    declared = _OF_FIELD.get(code)
    if declared is None:
        declared = "blob" if charset == _BINARY_SET else "text"
    return column_of(name, declared + (" unsigned" if unsigned else ""), True)
