"""Shadow tables: rows built where no reader sees them, until they take the table's place in the commit."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence

from typing_extensions import override

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import AT, LOAD, PARENT, POSITION, UNTIL, Engine, transaction
from ..merge import Counts, Stamp
from .stage import OWNER, bring_up, system_columns
from .write_modes import newest_first


class ShadowBuild(ABC):
    """Rows of a first load, or of a replace, built where no reader sees them, under names of the loader's own.

    They get their right names in the load's transaction: readers see the old table whole, then the new one whole.

    Attributes:
        read: rows added, by table, whether they are still there or superseded.
        names: {table: what its rows are built in}.
    """

    read: dict[str, int]
    names: dict[str, str]

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.read = {}
        self.names = {}

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
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        """All rows are there: stamp them, and leave one a key.

        Args:
            family: the tables.
            stamps: one a table.
            extra: further columns, with the SQL constant that all rows get.

        Returns:
            What became of each table's rows, in the family's order.
        """

    def swap_in(self, family: Family) -> None:
        """Within the load's transaction: give the tables their names."""
        self._engine.exchange({layout.name: self.names[layout.name] for layout in family.tables})

    @abstractmethod
    def drop(self) -> None:
        """What was built and took no place."""

    @abstractmethod
    def placed(self) -> None:
        """The tables have their names: there is nothing to drop any more."""


class TableShadowBuild(ShadowBuild):
    """Built in tables of the warehouse: one for each of the family."""

    def __init__(self, engine: Engine, prefix: str) -> None:
        """prefix: of the tables' names, which nobody else uses."""
        super().__init__(engine)
        self._prefix = prefix
        self._columns: dict[str, dict[str, ColumnShape]] = {}

    def _clear_leftovers(self) -> None:
        """What a killed run was building."""
        left: list[str] = []
        while self._engine.columns(name := f"{self._prefix}{len(left)}") is not None:
            left.append(name)
        self._drop(left)

    def _drop(self, names: Iterable[str]) -> None:
        """The last first: whoever clears what is left behind goes by their numbers from the first on."""
        for name in reversed(list(names)):
            self._engine.run(f"drop table if exists {self._engine.table(name)}")

    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        return [*system_columns(family, layout), *layout.columns]

    def _prepare(self, family: Family, layout: TableLayout) -> str:
        """The table being built for a layout; made, or brought up to it, where needed."""
        engine, wanted = self._engine, self._wanted(family, layout)
        name = self.names.get(layout.name)
        if name is None:
            if not self.names:
                self._clear_leftovers()
            name = self.names[layout.name] = f"{self._prefix}{len(self.names)}"
            self.read[layout.name] = 0
            engine.create(engine.table(name), wanted)
        else:
            held = self._columns[layout.name]
            if any(c.name not in held or engine.declared(held[c.name]) != engine.declared(c) for c in wanted):
                bring_up(engine, name, wanted, engine.columns(name))
        self._columns[layout.name] = {c.name: ColumnShape(c.name, c.kind, c.whole, c.fraction) for c in wanted}
        return name

    @override
    def drop(self) -> None:
        self._drop(self.names.values())
        self.placed()

    @override
    def placed(self) -> None:
        self.names.clear()
        self._columns.clear()
        self.read = {}


class PlainShadowBuild(TableShadowBuild):
    """For any engine, in its verbs alone. Rows carry the number of their record until all are there: by it the children of a record
    that was superseded are found."""

    def __init__(self, engine: Engine, feed: str, source_table: str) -> None:
        digest = hashlib.sha256(f"{feed}\0{source_table}".encode()).hexdigest()[:12]
        super().__init__(engine, f"_rb_new_{digest}_")

    @override
    def wants_repeats(self, family: Family) -> bool:
        return False

    @override
    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        return [OWNER, *super()._wanted(family, layout)]

    @override
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        engine = self._engine
        for batch in batches:
            layout = family.tables[family.place(batch.table)]
            name = self._prepare(family, layout)
            if batch.rows:
                with transaction(engine):
                    engine.insert(engine.table(name), list(self._columns[layout.name].values()), batch)
                self.read[layout.name] += batch.rows

    @override
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        engine = self._engine
        names = [self._prepare(family, layout) for layout in family.tables]
        superseded = [0] * len(names)
        if family.key:
            with transaction(engine):
                superseded = self._keep_newest(family, names)
        counts = []
        for layout, name, stamp, gone in zip(family.tables, names, stamps, superseded):
            for column, value in ((LOAD, str(stamp.load)), (AT, stamp.at), *extra):
                engine.add_constant(engine.table(name), column, value)
            engine.drop_column(name, OWNER.name)
            key = family.key if layout.parent is None else [PARENT, POSITION]
            if key:
                engine.ensure_key(name, key, current=any(column is UNTIL for column, _ in extra))
            counts.append(Counts(inserted=self.read[layout.name] - gone, superseded=gone))
        return counts

    def _keep_newest(self, family: Family, names: Sequence[str]) -> list[int]:
        """One row a key, the newest, with its children: how many rows went, by table."""
        engine, root = self._engine, self._engine.table(names[0])
        key = engine.listed(family.key)
        engine.create_temp_as(
            "rb_superseded",
            f"""select {OWNER.name} from (
                    select {OWNER.name}, row_number() over (
                        partition by {key} order by {newest_first(engine, family)}{OWNER.name} desc) as place from {root}
                ) as ranked where place > 1""",
        )
        gone = [engine.delete_matching(engine.table(name), f"{engine.temp}rb_superseded", [OWNER.name]) for name in names]
        engine.drop_temp("rb_superseded")
        return gone
