"""What building beside has in common where it is done in tables: one for each of the family, under names of the loader's own."""

from __future__ import annotations

from abc import ABC, abstractmethod

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ..engine import Engine
from .stage import bring_up, system_columns


class TableShadowBuild(ABC):
    """read: rows added, by table, whether they are still there or superseded."""

    def __init__(self, engine: Engine) -> None:
        self._held_by = engine
        self._tables: dict[str, str] = {}
        self._columns: dict[str, dict[str, ColumnShape]] = {}
        self.read: dict[str, int] = {}

    @abstractmethod
    def _name(self, number: int) -> str:
        """Of the family's table that came as this one."""

    @abstractmethod
    def _clear_leftovers(self) -> None:
        """What a killed run was building."""

    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        return [*system_columns(family, layout), *layout.columns]

    def _prepare(self, family: Family, layout: TableLayout) -> str:
        """The table being built for a layout; made, or brought up to it, where needed."""
        engine, wanted = self._held_by, self._wanted(family, layout)
        name = self._tables.get(layout.name)
        if name is None:
            if not self._tables:
                self._clear_leftovers()
            name = self._tables[layout.name] = self._name(len(self._tables))
            self.read[layout.name] = 0
            engine.create(engine.table(name), wanted)
        else:
            held = self._columns[layout.name]
            if any(c.name not in held or engine.declared(held[c.name]) != engine.declared(c) for c in wanted):
                bring_up(engine, name, wanted)
        self._columns[layout.name] = {c.name: ColumnShape(c.name, c.kind, c.whole, c.fraction) for c in wanted}
        return name

    def drop(self) -> None:
        for name in self._tables.values():
            self._held_by.run(f"drop table if exists {self._held_by.table(name)}")
        self.placed()

    def placed(self) -> None:
        self._tables.clear()
        self._columns.clear()
        self.read = {}
