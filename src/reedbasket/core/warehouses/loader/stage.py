"""The stage: temporary tables that hold shaped rows until the load commits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ...records.column_types import widen
from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import FILE, PARENT, POSITION, ROW, Engine

OWNER = ColumnShape("_rb_owner", "int64")


# Values that may wait in memory rather than in a temp table; of Python's own they take about 40 MB.
_MOST_WAITING = 600_000


class Stage:
    """One temporary table for each table of the family, created when its first rows arrive.

    Args:
        waits: a few rows may stay in memory as long as nobody needs the temporary table; `waiting` returns them.
        keyed: rows will be looked up by their key.
    """

    def __init__(self, engine: Engine, *, waits: bool = False, keyed: bool = False) -> None:
        self._engine = engine
        # Where making an index commits, it is made with the table; elsewhere later, once it is known to be needed.
        self._indexed = keyed and engine.ddl_commits
        self._waits = waits
        self._waiting: dict[str, list[TableBatch]] = {}
        self._values = 0
        self._names: dict[str, str] = {}
        self._columns: dict[str, dict[str, ColumnShape]] = {}
        self.rows: dict[str, int] = {}

    def add(self, family: Family, batch: TableBatch) -> None:
        """Add rows; no reader sees them."""
        layout = family.tables[family.place(batch.table)]
        if self._waits and self._stays(family, layout, batch):
            return
        name = self.prepare(family, layout)
        if batch.rows:
            self._engine.insert(name, list(self._columns[layout.name].values()), batch)
            self.rows[layout.name] += batch.rows

    def waiting(self, family: Family, layout: TableLayout) -> list[TableBatch]:
        """The rows of a table if all of them are in memory with its present columns; nothing if they are in the temporary table."""
        alike = layout.name not in self._names and self._shape(layout.name) == _shape(_staged(family, layout))
        return self._waiting.get(layout.name, []) if alike else []

    def _stays(self, family: Family, layout: TableLayout, batch: TableBatch) -> bool:
        values = batch.rows * (len(batch.columns) + 1)
        wanted = _staged(family, layout)
        # Rows of which nothing but nulls is known have no column that could be bound.
        if layout.name in self._names or not batch.columns or self._values + values > _MOST_WAITING:
            return False
        held = self._columns.setdefault(layout.name, {c.name: _copy(c) for c in wanted})
        if _shape(held.values()) != _shape(wanted):
            return False
        self._waiting.setdefault(layout.name, []).append(batch)
        self._values += values
        self.rows[layout.name] = self.rows.get(layout.name, 0) + batch.rows
        return True

    def _shape(self, table: str) -> Any:
        return _shape(self._columns.get(table, {}).values())

    def prepare(self, family: Family, layout: TableLayout) -> str:
        """The temporary table, as SQL, with all columns of the layout; created or widened if necessary."""
        wanted = _staged(family, layout)
        if layout.name not in self._names:
            name = f"rb_stage_{len(self._names)}"
            there = self._columns.setdefault(layout.name, {c.name: _copy(c) for c in wanted})
            key = key_of(family, layout) if self._indexed else ()
            self._engine.create_temp(name, list(there.values()), key if set(key) <= set(there) else ())
            self._names[layout.name] = self._engine.temp + name
            self.rows.setdefault(layout.name, 0)
            for batch in self._waiting.pop(layout.name, []):
                self._engine.insert(self._names[layout.name], list(there.values()), batch)
        name, there = self._names[layout.name], self._columns[layout.name]
        wider = []
        for column in wanted:
            held = there.get(column.name)
            if held is None:
                self._engine.add_column(name, column)
            elif self._engine.declared(held) != self._engine.declared(column) or held.kind != column.kind:
                wider.append((held.kind, column))
            there[column.name] = _copy(column)
        if wider:
            self._engine.widen(name.removeprefix(self._engine.temp), wider, temp=True)
        return name

    def clear(self) -> None:
        """Empty the stage for the next load."""
        for table, name in self._names.items():
            if self.rows[table]:
                self._engine.empty(name)
        self._forget_waiting()
        self.rows = dict.fromkeys(self.rows, 0)

    def _forget_waiting(self) -> None:
        for table in self._waiting:
            del self._columns[table]
        self._waiting.clear()
        self._values = 0

    def drop(self) -> None:
        """Drop the temporary tables."""
        for name in self._names.values():
            self._engine.drop_temp(name)
        self._forget_waiting()
        self._names.clear()
        self._columns.clear()
        self.rows.clear()


def key_of(family: Family, layout: TableLayout) -> Sequence[str]:
    """The columns that identify a row of one of the family's tables; empty for none."""
    return family.key if layout.parent is None or not family.key else (PARENT, POSITION)


def system_columns(family: Family, layout: TableLayout) -> list[ColumnShape]:
    """The columns that link tables: `_rb_parent` and `_rb_ordinal` of a child, `_rb_row_key` of a root that is referred to, `_rb_file` of
    a table loaded from files.
    """
    if layout.parent is not None:
        return [ColumnShape(PARENT, layout.parent_kind), ColumnShape(POSITION, "int64")]
    made = [ColumnShape(FILE, "int64")] if family.by_file else []
    return [*made, ColumnShape(ROW, "text")] if family.reference == "row" and len(family.tables) > 1 else made


def _staged(family: Family, layout: TableLayout) -> list[ColumnShape]:
    return [OWNER, *system_columns(family, layout), *layout.columns]


def _shape(columns: Iterable[ColumnShape]) -> list[Any]:
    return [(c.name, c.kind, c.whole, c.fraction) for c in columns]


def _copy(column: ColumnShape) -> ColumnShape:
    return ColumnShape(column.name, column.kind, column.whole, column.fraction)


def ensure_table(engine: Engine, table: str, wanted: Sequence[ColumnShape], there: Mapping[str, str] | None) -> None:
    """Create a warehouse table with these columns, or add and widen columns in place.

    Args:
        there: {column: declared type} at present; None if there is no table. A column that is wider than needed stays: an interrupted
            commit may have widened it.
    """
    if there is None:
        engine.create(engine.table(table), wanted)
        return
    wider = []
    for column in wanted:
        declared = there.get(column.name)
        if declared is None:
            engine.add_column(engine.table(table), column)
        elif declared != engine.declared(column):
            held = engine.kind_of(declared)
            if held is not None and (held == column.kind or widen(held, column.kind) != held or not engine.ddl_commits):
                wider.append((held, column))
    if wider:
        engine.widen(table, wider)
