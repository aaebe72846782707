"""The stage: temp tables that hold shaped rows until the load commits."""

from __future__ import annotations

from collections.abc import Sequence

from ..shape.batch import TableBatch
from ..shape.layout import Family, TableLayout
from ..shape.structure import ColumnShape
from .engine import FILE, PARENT, POSITION, ROW, Engine

OWNER = ColumnShape("_rb_owner", "int64")


class Stage:
    """One temp table per table of the family, made when its first rows arrive."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._names: dict[str, str] = {}
        self._columns: dict[str, dict[str, ColumnShape]] = {}
        self.rows: dict[str, int] = {}

    def add(self, family: Family, batch: TableBatch) -> None:
        layout = family.tables[family.place(batch.table)]
        name = self.prepare(family, layout)
        if batch.rows:
            self._engine.insert(name, list(self._columns[layout.name].values()), batch)
            self.rows[layout.name] += batch.rows

    def prepare(self, family: Family, layout: TableLayout) -> str:
        """The temp table, as SQL, with all columns of the layout; made, or widened, where needed."""
        wanted = [OWNER, *system_columns(family, layout), *layout.columns]
        if layout.name not in self._names:
            name = f"rb_stage_{len(self._names)}"
            self._engine.create_temp(name, wanted)
            self._names[layout.name], self.rows[layout.name] = self._engine.temp + name, 0
            self._columns[layout.name] = {c.name: _copy(c) for c in wanted}
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
        """Empty, ready for the next load."""
        for table, name in self._names.items():
            if self.rows[table]:
                self._engine.empty(name)
                self.rows[table] = 0

    def drop(self) -> None:
        for name in self._names.values():
            self._engine.run(f"drop table if exists {name}")
        self._names.clear()
        self._columns.clear()
        self.rows.clear()


def system_columns(family: Family, layout: TableLayout) -> list[ColumnShape]:
    """What links parents and children: of a child `_rb_parent` and `_rb_pos`, of a root that is pointed at
    `_rb_row`; of one by files `_rb_file`."""
    if layout.parent is not None:
        return [ColumnShape(PARENT, layout.parent_kind), ColumnShape(POSITION, "int64")]
    made = [ColumnShape(FILE, "int64")] if family.by_file else []
    return [*made, ColumnShape(ROW, "text")] if family.reference == "row" and len(family.tables) > 1 else made


def _copy(column: ColumnShape) -> ColumnShape:
    return ColumnShape(column.name, column.kind, column.whole, column.fraction)


def bring_up(engine: Engine, table: str, wanted: Sequence[ColumnShape]) -> None:
    """A warehouse table with these columns: made, or given those it lacks, or widened in place."""
    there = engine.columns(table)
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
            if held is not None:
                wider.append((held, column))
    if wider:
        engine.widen(table, wider)
