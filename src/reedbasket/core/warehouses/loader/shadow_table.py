"""Shadow tables: rows are built where no reader sees them, until they replace the table in the commit."""

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
from .stage import OWNER, ensure_table, system_columns
from .write_modes import newest_first


class ShadowBuild(ABC):
    """The rows of a first load or of a replace, built under names of the loader's own.

    They get their final names in the load's transaction: readers see either the old table or the new one as a whole.

    Attributes:
        read: rows added, by table, superseded ones included.
        names: {table: the name under which its rows are built}.
    """

    read: dict[str, int]
    names: dict[str, str]

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.read = {}
        self.names = {}

    def needs_repeated_keys(self, family: Family) -> bool:
        """Whether `add` has to be told about repeated keys; otherwise the table itself is asked once it is complete."""
        return False

    @abstractmethod
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        """Add rows.

        Args:
            family: the tables as they are now.
            batches: one for each table, the root's first.
            repeats: a key of the batch is repeated in it, or was added before; told if the engine notes keys.
        """

    @abstractmethod
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        """All rows have been added: stamp them, and leave one for each key.

        Args:
            family: the tables.
            stamps: one for each table.
            extra: further columns, with the SQL constant that all rows get.

        Returns:
            What happened to each table's rows, in the family's order.
        """

    def swap_in(self, family: Family) -> None:
        """Give the tables their final names, in the load's transaction."""
        self._engine.exchange({layout.name: self.names[layout.name] for layout in family.tables})

    @abstractmethod
    def drop(self) -> None:
        """Drop what was built and has not replaced anything."""

    @abstractmethod
    def placed(self) -> None:
        """Note that the tables have their final names, so that there is nothing left to drop."""


class TableShadowBuild(ShadowBuild):
    """Built in tables of the warehouse, one for each table of the family."""

    def __init__(self, engine: Engine, prefix: str) -> None:
        """Prepare; no table is created yet.

        Args:
            prefix: of the tables' names, which nobody else uses.
        """
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
        """Drop tables, the last one first: cleaning up after a kill looks for them by their numbers, from the first on."""
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
                ensure_table(engine, name, wanted, engine.columns(name))
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
    """For any engine, using its operations alone. Until all rows are there, they carry the number of their record, by which the children
    of a superseded record are found.
    """

    def __init__(self, engine: Engine, feed: str, source_table: str) -> None:
        digest = hashlib.sha256(f"{feed}\0{source_table}".encode()).hexdigest()[:12]
        super().__init__(engine, f"_rb_new_{digest}_")

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
            superseded = self._keep_newest(family, names, current=any(column is UNTIL for column, _ in extra))
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

    def _keep_newest(self, family: Family, names: Sequence[str], *, current: bool) -> list[int]:
        """Keep one row of each key, the newest, with its children.

        Args:
            names: of the shadow tables.
            current: the key will be that of current versions.

        Returns:
            How many rows went, by table.
        """
        engine, root = self._engine, self._engine.table(names[0])
        key = engine.listed(family.key)
        engine.create_temp_as(
            "rb_superseded",
            f"""select {OWNER.name} from (
                    select {OWNER.name}, row_number() over (
                        partition by {key} order by {newest_first(engine, family)}{OWNER.name} desc) as place from {root}
                ) as ranked where place > 1""",
        )
        with transaction(engine):
            gone = [engine.delete_matching(engine.table(name), f"{engine.temp}rb_superseded", [OWNER.name]) for name in names]
        engine.drop_temp("rb_superseded")
        return gone
