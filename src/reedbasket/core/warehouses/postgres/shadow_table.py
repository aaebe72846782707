"""Shadow tables in PostgreSQL: rows are loaded by COPY into new tables, which replace the old ones in the commit."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

import adbc_driver_manager
from typing_extensions import override

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import AT, LOAD, UNTIL
from ..loader.shadow_table import TableShadowBuild
from ..loader.stage import OWNER
from ..loader.write_modes import newest_first
from ..merge import Counts, Stamp
from .engine import PostgresEngine


class PostgresShadowBuild(TableShadowBuild):
    """Tables of the same schema, under names of the loader's own."""

    def __init__(self, engine: PostgresEngine, feed: str, source_table: str) -> None:
        super().__init__(engine, "_rb_new_" + hashlib.sha256(f"{feed}\0{source_table}".encode()).hexdigest()[:12] + "_")
        self._postgres = engine

    @override
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        for batch in batches:
            if not batch.rows:
                continue  # before the first record no column is known, and a table of none looks like no table
            layout = family.tables[family.place(batch.table)]
            name = self._prepare(family, layout)
            self._engine.insert(self._engine.table(name), list(self._columns[layout.name].values()), batch)
            self.read[layout.name] += batch.rows

    @override
    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        # Which record a row came from is only needed to find the children of a version that was superseded.
        owner = [OWNER] if len(family.tables) > 1 else []
        return [*owner, *super()._wanted(family, layout)]

    @override
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        engine = self._engine
        new = [self._prepare(family, layout) for layout in family.tables]
        for stamp, name in zip(stamps, new):
            table = engine.table(name)
            for column, value in [(LOAD, str(stamp.load)), (AT, stamp.at), *extra]:
                engine.add_constant(table, column, value)
        superseded = [0] * len(new)
        if family.key:
            superseded = self._one_row_a_key(family, new, current=any(column is UNTIL for column, _ in extra))
        counts = []
        for layout, name, gone in zip(family.tables, new, superseded):
            if "_rb_owner" in self._columns[layout.name]:
                engine.drop_column(name, "_rb_owner")
            counts.append(Counts(inserted=self.read[layout.name] - gone, superseded=gone))
        return counts

    def _one_row_a_key(self, family: Family, new: Sequence[str], *, current: bool) -> list[int]:
        """Create the key's index, which tells whether a key is repeated; if so, only its newest version is kept, with its children.

        Returns:
            How many rows were dropped, by table.
        """
        engine, root = self._engine, self._engine.table(new[0])
        dropped = [0] * len(new)
        engine.run("savepoint rb_key")
        try:
            engine.ensure_key(new[0], family.key, current=current)
        except adbc_driver_manager.Error as error:
            if getattr(error, "sqlstate", "") != "23505":
                raise
            engine.run("rollback to rb_key")
            owner = "_rb_owner" if "_rb_owner" in self._columns[family.root.name] else "null::bigint as _rb_owner"
            engine.run(
                f"""create temp table rb_superseded as select at_row, _rb_owner from (
                        select ctid as at_row, {owner}, row_number() over (
                            partition by {engine.listed(family.key)}
                            order by {newest_first(engine, family)}ctid desc) as place from {root}
                    ) as ranked where place > 1"""
            )
            dropped[0] = engine.run(f"delete from {root} where ctid in (select at_row from rb_superseded)")
            for place, name in enumerate(new[1:], 1):
                dropped[place] = engine.delete_matching(engine.table(name), "rb_superseded", ["_rb_owner"])
            engine.run("drop table rb_superseded")
            engine.ensure_key(new[0], family.key, current=current)
        engine.run("release savepoint rb_key")
        return dropped

    @override
    def _clear_leftovers(self) -> None:
        """Also the schema, where this is the first table in it."""
        self._postgres.ensure_schema()
        super()._clear_leftovers()
