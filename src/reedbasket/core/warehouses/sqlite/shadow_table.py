"""Shadow tables in a SQLite file: a short transaction for each batch, and a rename in the commit.

Nothing is written twice. A batch that repeats a key is merged into what was built so far, and the newest version wins; a table without
children is asked once, when it is complete.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from typing_extensions import override

from ...memory import give_back
from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import AT, LOAD, PARENT, POSITION, UNTIL, transaction
from ..loader.shadow_table import TableShadowBuild
from ..loader.stage import Stage, system_columns
from ..loader.write_modes import drop_outdated, drop_superseded, newest_first
from ..merge import Counts, Merge, Stamp
from .connect import CACHE_KB
from .engine import SqliteEngine

_CACHE_KB = 24_000


class SqliteShadowBuild(TableShadowBuild):
    """Tables of the same file, under names of the loader's own."""

    def __init__(self, engine: SqliteEngine, feed: str, source_table: str) -> None:
        # Points stand in no name of ours, so this prefix is nobody else's.
        super().__init__(engine, f"_rb_beside.{feed}.{source_table}.")
        self._sqlite = engine
        # Nobody reads again what is added at the end of a table: the rest of the memory is for what brings the rows.
        self._engine.run(f"pragma main.cache_size = -{_CACHE_KB}")

    @override
    def needs_repeated_keys(self, family: Family) -> bool:
        return len(family.tables) > 1

    @override
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        engine = self._engine
        with transaction(engine):
            if repeats:
                self._merge(family, batches)
            for batch in batches:
                layout = family.tables[family.place(batch.table)]
                name = self._prepare(family, layout)
                if batch.rows and not repeats:
                    engine.insert(engine.table(name), list(self._columns[layout.name].values()), batch)
                self.read[layout.name] += batch.rows

    @override
    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        # SQLite knows no table without columns, and there is one where nothing has arrived yet.
        return super()._wanted(family, layout) or [LOAD, AT]

    @override
    def placed(self) -> None:
        super().placed()
        self._engine.run(f"pragma main.cache_size = -{CACHE_KB}")

    @override
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        engine, counts = self._sqlite, []
        give_back()
        for layout, stamp in zip(family.tables, stamps):
            name = self._prepare(family, layout)
            table = engine.table(name)
            # The index that tells repeated keys stays, as the table's own; of versions another is wanted, over the current ones.
            stays = not any(column is UNTIL for column, _ in extra)
            if layout.parent is None and family.key and len(family.tables) == 1:
                if stays:
                    engine.drop_key(layout.name)
                self._drop_repeated(family, name, layout.name if stays else name)
            held = engine.query(f"select count(*) from {table}")[0][0]
            engine.drop_key(name)
            there = engine.columns(name) or {}
            for column, value in ((LOAD, str(stamp.load)), (AT, stamp.at), *extra):
                if column.name not in there:
                    engine.add_constant(table, column, value)
            counts.append(Counts(inserted=held, superseded=self.read[layout.name] - held))
        return counts

    def _drop_repeated(self, family: Family, name: str, key_of: str) -> None:
        """Drop superseded rows of a table without children: rows are in order of arrival, and the key's index tells the rest.

        Args:
            key_of: the table whose key index it is.
        """
        engine = self._sqlite
        engine.run("savepoint rb_key")
        try:
            engine.ensure_key(name, family.key, key_of=key_of)
        except sqlite3.IntegrityError:
            engine.run("rollback to rb_key")
            key, table = engine.listed(family.key), engine.table(name)
            engine.run(
                f"""delete from {table} where _rowid_ in (select at from (
                        select _rowid_ as at, row_number() over (
                            partition by {key} order by {newest_first(engine, family)}_rowid_ desc) as place from {table}
                    ) where place > 1)"""
            )
            engine.ensure_key(name, family.key, key_of=key_of)
        engine.run("release rb_key")

    def _merge(self, family: Family, batches: Sequence[TableBatch]) -> None:
        """A batch with a key that is there already, or twice in itself."""
        engine, stage = self._engine, Stage(self._engine)
        for layout in family.tables:
            self._prepare(family, layout)
        for batch in batches:
            stage.add(family, batch)
        drop_superseded(engine, stage, family)
        root = engine.table(self.names[family.root.name])
        # Rows from before the family had children may repeat a key: nobody looked then.
        self._drop_repeated(family, self.names[family.root.name], self.names[family.root.name])
        drop_outdated(engine, stage, family, root)
        for layout in family.tables:
            self._merge_table(family, layout, stage)
        stage.drop()
        engine.run("drop table if exists temp.rb_replaced")

    def _merge_table(self, family: Family, layout: TableLayout, stage: Stage) -> None:
        """Replace the children of a record that came again as a set, at any depth: `_rb_parent` begins with what the record's own children
        refer to.
        """
        engine, staged = self._engine, stage.prepare(family, layout)
        name = self.names[layout.name]
        table = engine.table(name)
        key = family.key if layout.parent is None else [PARENT, POSITION]
        if layout.parent is None and len(family.tables) > 1:
            points = engine.quote(family.key[0]) if family.reference == "key" else "_rb_row_key"
            engine.run(
                f"""create temp table rb_replaced as select s.{points} as parent from {staged} as s
                    where exists (select 1 from {table} as t where {engine.matching(key, "t", "s")})"""
            )
        elif layout.parent is not None:
            engine.ensure_key(name, key)
            below = "t._rb_parent = p.parent"
            if layout.parent > 0:  # '0' is the character after '/'
                below = "t._rb_parent >= p.parent || '/' and t._rb_parent < p.parent || '0'"
            engine.run(
                f"""delete from {table} where _rowid_ in (
                        select t._rowid_ from temp.rb_replaced as p cross join {table} as t on {below})"""
            )
        names = [*(c.name for c in system_columns(family, layout)), *layout.names]
        count = engine.query(f"select count(*) from {staged}")[0][0]
        engine.merge(Merge(staged, table, names, list(key), [n for n in names if n not in key], count, None))
