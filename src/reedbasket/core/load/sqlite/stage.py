"""The stage: temp tables that hold shaped rows until the load commits. Untyped, so that what was bound comes back."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from itertools import chain
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ...shape.kinds import Kind
from ...shape.shaper import TableBatch
from ...shape.structure import TableShape
from ...shape.values import ColumnData
from .ddl import listed, quote

# Many rows in one statement: 50 at a time are 1.3 times as fast as executemany, and the lock that Python threads share is
# let go once for all of them, so that the reader thread runs meanwhile.
ROWS_PER_STATEMENT = 50
# SQLite's own bound on parameters in a statement (SQLITE_MAX_VARIABLE_NUMBER, since 3.32).
MOST_PARAMETERS = 32_000


class Stage:
    """One temp table per table of the family, made when its first rows arrive."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._tables: dict[str, str] = {}
        self._columns: dict[str, list[str]] = {}
        self.rows: dict[str, int] = {}

    def name(self, table: str) -> str | None:
        """The temp table that holds a table's rows, quoted and with its schema; None where none arrived."""
        return self._tables.get(table)

    def add(self, batch: TableBatch) -> None:
        names, columns = columns_of(batch)
        names, columns = ["_rb_owner", *names], [batch.owners, *columns]
        self.prepare(batch.table, names)
        if batch.rows:
            insert_rows(self._connection, self._tables[batch.table.name], names, columns, batch.rows)
            self.rows[batch.table.name] += batch.rows

    def prepare(self, shape: TableShape, extra: Sequence[str] = ()) -> str:
        """The temp table with all columns of the shape; made, or widened, where needed."""
        wanted = ["_rb_owner"]
        if shape.parent_kind is not None:
            wanted += ["_rb_parent", "_rb_pos"]
        wanted += [c.name for c in shape.columns()]
        wanted += [name for name in extra if name not in wanted]
        if shape.name not in self._tables:
            stage = f"temp.stage_{len(self._tables)}"
            self._connection.execute(f"create temp table {stage.removeprefix('temp.')} ({listed(wanted)})")
            self._tables[shape.name], self._columns[shape.name], self.rows[shape.name] = stage, wanted, 0
        for name in wanted:
            if name not in self._columns[shape.name]:
                self._connection.execute(f"alter table {self._tables[shape.name]} add column {quote(name)}")
                self._columns[shape.name].append(name)
        return self._tables[shape.name]

    def count(self, shape: TableShape) -> int:
        """Rows staged for a table; its temp table is there afterwards, even without any."""
        self.prepare(shape)
        return self.rows[shape.name]

    def clear(self) -> None:
        """Empty, ready for the next load."""
        for table, stage in self._tables.items():
            if self.rows[table]:
                self._connection.execute(f"delete from {stage}")
                self.rows[table] = 0

    def drop(self) -> None:
        for stage in self._tables.values():
            self._connection.execute(f"drop table if exists {stage}")
        self._tables.clear()
        self._columns.clear()
        self.rows.clear()


def columns_of(batch: TableBatch) -> tuple[list[str], list[Any]]:
    """Names and values as sqlite3 binds them, `_rb_parent` and `_rb_pos` first where it is a child table's."""
    names: list[str] = []
    columns: list[Any] = []
    if batch.parents is not None and batch.positions is not None:
        names, columns = ["_rb_parent", "_rb_pos"], [batch.parents, batch.positions]
    for name, (kind, data) in batch.columns.items():
        names.append(name)
        columns.append(bindable(kind, data))
    return names, columns


def insert_rows(connection: sqlite3.Connection, table: str, names: list[str], columns: list[Any], count: int) -> None:
    """table: as SQL writes it, quoted and with its schema."""
    into = f"insert into {table} ({listed(names)}) values "
    one = "(" + ",".join("?" * len(names)) + ")"
    many = max(1, min(ROWS_PER_STATEMENT, MOST_PARAMETERS // len(names)))
    width = many * len(names)
    flat = list(chain.from_iterable(zip(*columns)))
    whole = count // many * width
    statement = into + ",".join([one] * many)
    for start in range(0, whole, width):
        connection.execute(statement, flat[start : start + width])
    if len(flat) > whole:
        rest = (len(flat) - whole) // len(names)
        connection.execute(into + ",".join([one] * rest), flat[whole:])


def bindable(kind: Kind, data: ColumnData) -> list[Any]:
    """Values as sqlite3 binds them. Timestamps become '2026-03-02 06:00:00.000000Z': they sort as text, name their zone,
    and SQLite's own date functions read them and compare with them."""
    if isinstance(data, pa.Array):
        if kind == "timestamp":
            # Without zone first: casting a zoned timestamp to text is 28 times slower.
            text = data.view(pa.int64()).view(pa.timestamp("us")).cast(pa.string())
            listed_values: list[Any] = pc.binary_join_element_wise(text, "Z", "").to_pylist()
            return listed_values
        as_text: list[Any] = data.cast(pa.string()).to_pylist()
        return as_text
    if kind == "decimal":
        return [None if v is None else format(v, "f") for v in data]
    assert isinstance(data, list)
    return data
