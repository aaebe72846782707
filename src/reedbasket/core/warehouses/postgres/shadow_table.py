"""Building beside in PostgreSQL: rows go by COPY into new tables, which take the old ones' place in the commit.

Where views or anything else stands on the old table it stays, and its rows are exchanged in the same transaction: readers see
the old ones until it commits.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

import adbc_driver_manager
from typing_extensions import override

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import AT, LOAD, UNTIL, Counts, Stamp
from ..loader.shadow_table import TableShadowBuild
from ..loader.stage import OWNER, bring_up, system_columns
from ..loader.write_modes import newest_first
from .engine import PostgresEngine
from .views import grants

# What stands on a table beside what belongs to it: views, foreign keys, triggers, indexes and policies of others.
_STANDING_ON = """
select 1 from pg_depend d where d.refclassid = 'pg_class'::regclass and d.refobjid = to_regclass(?)
and d.classid in ('pg_rewrite'::regclass, 'pg_trigger'::regclass, 'pg_policy'::regclass, 'pg_constraint'::regclass)
union all
select 1 from pg_index i join pg_class c on c.oid = i.indexrelid where i.indrelid = to_regclass(?) and c.relname <> ? limit 1"""


class PostgresShadowBuild(TableShadowBuild):
    """Tables of the same schema, under names of the loader's own."""

    def __init__(self, engine: PostgresEngine, schema: str, feed: str, source_table: str) -> None:
        self._engine = engine
        self._schema = schema
        self._prefix = "_rb_new_" + hashlib.sha256(f"{feed}\0{source_table}".encode()).hexdigest()[:12]
        super().__init__(engine)

    @override
    def wants_repeats(self, family: Family) -> bool:
        return False

    @override
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        for batch in batches:
            if not batch.rows:
                continue  # before the first record no column is known, and a table of none looks like no table
            layout = family.tables[family.place(batch.table)]
            name = self._prepare(family, layout)
            self._engine.insert(self._engine.table(name), list(self._columns[layout.name].values()), batch)
            self.read[layout.name] += batch.rows

    def _name(self, number: int) -> str:
        return f"{self._prefix}_{number}"

    def _wanted(self, family: Family, layout: TableLayout) -> list[ColumnShape]:
        # Which record a row came from is only needed to find the children of a version that was superseded.
        owner = [OWNER] if len(family.tables) > 1 else []
        return [*owner, *super()._wanted(family, layout)]

    @override
    def swap_in(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        engine = self._engine
        new = [self._prepare(family, layout) for layout in family.tables]
        for stamp, name in zip(stamps, new):
            table = engine.table(name)
            # A new column's constant default stands for all rows there are, without touching one of them.
            for column, value in [(LOAD, str(stamp.load)), (AT, stamp.at), *extra]:
                engine.run(f"alter table {table} add column {column.name} {engine.declared(column)} default {value}")
                engine.run(f"alter table {table} alter column {column.name} drop default")
        superseded = [0] * len(new)
        if family.key:
            superseded = self._one_row_a_key(family, new, current=any(column is UNTIL for column, _ in extra))
        counts = []
        for layout, name, gone in zip(family.tables, new, superseded):
            table = engine.table(name)
            if "_rb_owner" in self._columns[layout.name]:
                engine.drop_column(name, "_rb_owner")
            there = engine.columns(layout.name)
            removed = engine.query(f"select count(*) from {engine.table(layout.name)}")[0][0] if there is not None else 0
            if there is None:
                self._rename(name, layout.name)
            elif self._stands_alone(layout.name):
                oid = engine.query("select to_regclass(?)::oid::bigint", (engine.table(layout.name),))[0][0]
                rights = grants(engine, oid, engine.table(layout.name))
                engine.run(f"drop table {engine.table(layout.name)}")
                self._rename(name, layout.name)
                for right in rights:
                    engine.run(right)
            else:
                self._exchange(family, layout, name, [LOAD, AT, *(c for c, _ in extra)])
            counts.append(Counts(inserted=self.read[layout.name] - gone, superseded=gone, removed=removed))
        return counts

    def _one_row_a_key(self, family: Family, new: Sequence[str], *, current: bool) -> list[int]:
        """The key's index says whether a key came twice; if so, only the newest version stays, with its children.

        How many rows went, by table."""
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

    def _stands_alone(self, table: str) -> bool:
        engine = self._engine
        name = engine.table(table)
        return not engine.query(_STANDING_ON, (name, name, engine.key_name(table)))

    def _rename(self, name: str, table: str) -> None:
        engine = self._engine
        engine.run(f"alter table {engine.table(name)} rename to {engine.quote(table)}")
        if engine.query("select 1 where to_regclass(?) is not null", (engine.table(engine.key_name(name)),)):
            key = engine.quote(engine.key_name(table))
            engine.run(f"alter index {engine.table(engine.key_name(name))} rename to {key}")

    def _exchange(self, family: Family, layout: TableLayout, name: str, stamps: Sequence[ColumnShape]) -> None:
        engine, table = self._engine, self._engine.table(layout.name)
        columns = [*system_columns(family, layout), *layout.columns, *stamps]
        engine.drop_key(layout.name)
        bring_up(engine, layout.name, columns)
        names = engine.listed([c.name for c in columns])
        engine.run(f"delete from {table}")
        engine.run(f"insert into {table} ({names}) select {names} from {engine.table(name)}")
        engine.run(f"drop table {engine.table(name)}")

    def _clear_leftovers(self) -> None:
        """What a killed run was building; and the schema, where this is the first table in it."""
        engine = self._engine
        if not engine.query("select 1 from pg_namespace where nspname = ?", (self._schema,)):
            engine.run(f"create schema {engine.quote(self._schema)}")
        left = engine.query(
            "select tablename::text from pg_tables where schemaname = ? and starts_with(tablename::text, ?)",
            (self._schema, self._prefix),
        )
        for (name,) in left:
            engine.run(f"drop table {engine.table(name)}")
