"""Statistics of a table's columns, in SQL that all engines understand."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from ..errors import NotFound
from .warehouse import Warehouse

# Columns per statement: wide tables are asked in parts.
_COLUMNS_AT_ONCE = 40
_SECONDS = 50.0
_EXAMPLE_CHARACTERS = 200
# Types that have no order of their own, or none that all engines share; they are compared as text.
_AS_TEXT = ("JSON", "BOOL", "UUID", "BLOB", "BYTEA")


@dataclass
class ColumnProfile:
    """The statistics of one column.

    Attributes:
        min: as text; None if all values are null.
        max: as text; None if all values are null.
        examples: a few different values, as text.
    """

    name: str
    type: str
    nulls: int = 0
    distinct: int = 0
    min: str | None = None
    max: str | None = None
    examples: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)


def profile(warehouse: Warehouse, table: str) -> tuple[int, list[ColumnProfile]]:
    """(number of rows, the columns in order).

    Raises:
        NotFound: there is no such table.
        QueryRefused: it takes more than 50 s.
    """
    columns = warehouse.existing(table)
    if not columns:
        raise NotFound(
            "profiling",
            table,
            found="no such table in the warehouse",
            fix="list the tables with `reed tables`",
            code="table.not_found",
        )
    found = [ColumnProfile(name, declared) for name, declared in columns.items()]
    rows = int(warehouse.query(f"select count(*) from {warehouse.quote(table)}", limit=1, seconds=_SECONDS).rows[0][0])
    for start in range(0, len(found), _COLUMNS_AT_ONCE):
        part = found[start : start + _COLUMNS_AT_ONCE]
        asked = ", ".join(_figures(warehouse, column, table) for column in part)
        answer = warehouse.query(f"select {asked} from {warehouse.quote(table)}", limit=1, seconds=_SECONDS).rows[0]
        for place, column in enumerate(part):
            filled, column.distinct, column.min, column.max = answer[4 * place : 4 * place + 4]
            column.nulls = rows - filled
    for column in found:
        name = warehouse.quote(column.name)
        shown = f"substr({warehouse.text_of(name)}, 1, {_EXAMPLE_CHARACTERS})"
        statement = f"select distinct {shown} from {warehouse.quote(table)} where {name} is not null limit 3"
        if column.distinct:
            column.examples = [str(r[0]) for r in warehouse.query(statement, limit=3, seconds=_SECONDS).rows]
    return rows, found


def _figures(warehouse: Warehouse, column: ColumnProfile, table: str) -> str:
    """Four values: how many are filled, how many are different, the smallest and the largest."""
    name, declared = warehouse.quote(column.name), column.type.upper()
    if declared == "DECIMAL TEXT":  # SQLite: exact numbers are text, and sort as numbers only when made such
        least, most = (
            f"(select {name} from {warehouse.quote(table)} where {name} is not null order by cast({name} as real) {way} limit 1)"
            for way in ("asc", "desc")
        )
        return f"count({name}), count(distinct {name}), {least}, {most}"
    value = warehouse.text_of(name) if any(word in declared for word in _AS_TEXT) else name
    least, most = (warehouse.text_of(f"{which}({value})") for which in ("min", "max"))
    return f"count({name}), count(distinct {value}), {least}, {most}"
