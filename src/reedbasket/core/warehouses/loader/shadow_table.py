"""Shadow tables: rows built where no reader sees them, until they take the table's place in the commit."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

from typing_extensions import override

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import Counts, Engine, Stamp
from .stage import bring_up, system_columns


class ShadowBuild(ABC):
    """Rows of a first load, or of a replace, built where no reader sees them, under names of the loader's own.

    They get their right names in the load's transaction: readers see the old table whole, then the new one whole.

    Attributes:
        read: rows added, by table, whether they are still there or superseded.
    """

    read: dict[str, int]

    @abstractmethod
    def wants_repeats(self, family: Family) -> bool:
        """Whether `add` must be told of keys that repeat; else the table itself is asked once it is whole."""

    @abstractmethod
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        """Rows more.

        Args:
            family: the tables as they are to be by now.
            batches: one a table, the root's first.
            repeats: a key of the batch stands twice in it, or was added before; told where the engine notes keys.
        """

    @abstractmethod
    def swap_in(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        """Within the load's transaction: stamp the rows and give the tables their names.

        Args:
            family: the tables.
            stamps: one a table.
            extra: further columns, with the SQL constant that all rows get.

        Returns:
            What became of each table's rows, in the family's order.
        """

    @abstractmethod
    def drop(self) -> None:
        """What was built and took no place."""

    @abstractmethod
    def placed(self) -> None:
        """The tables have their names: there is nothing to drop any more."""


class TableShadowBuild(ShadowBuild):
    """Built in tables of the warehouse: one for each of the family."""

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

    @override
    def drop(self) -> None:
        for name in self._tables.values():
            self._held_by.run(f"drop table if exists {self._held_by.table(name)}")
        self.placed()

    @override
    def placed(self) -> None:
        self._tables.clear()
        self._columns.clear()
        self.read = {}
