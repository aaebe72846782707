"""Replacing tables by others. If a view or anything else depends on a table, the table stays and its rows are replaced in the same
transaction: readers see the old ones until it commits.
"""

from __future__ import annotations

from ...records.structure import ColumnShape
from ..engine import Engine
from ..loader.stage import ensure_table
from .views import grants

# What stands on a table beside what belongs to it: views, foreign keys, triggers, indexes and policies of others.
_STANDING_ON = """
select 1 from pg_depend d where d.refclassid = 'pg_class'::regclass and d.refobjid = to_regclass(?)
and d.classid in ('pg_rewrite'::regclass, 'pg_trigger'::regclass, 'pg_policy'::regclass, 'pg_constraint'::regclass)
union all
select 1 from pg_index i join pg_class c on c.oid = i.indexrelid where i.indrelid = to_regclass(?) and c.relname <> ? limit 1"""


def exchange(engine: Engine, table: str, built_in: str, key_names: tuple[str, str]) -> None:
    """Replace one table.

    Args:
        table: not quoted; it need not exist yet.
        built_in: the table that replaces it, and is dropped.
        key_names: of the key's index, of each.
    """
    name = engine.table(table)
    if engine.columns(table) is None:
        _rename(engine, table, built_in, key_names)
    elif engine.query(_STANDING_ON, (name, name, key_names[0])):
        _exchange_rows(engine, table, built_in)
    else:
        oid = engine.query("select to_regclass(?)::oid::bigint", (name,))[0][0]
        rights = grants(engine, oid, name)
        engine.run(f"drop table {name}")
        _rename(engine, table, built_in, key_names)
        for right in rights:
            engine.run(right)


def _rename(engine: Engine, table: str, built_in: str, key_names: tuple[str, str]) -> None:
    engine.run(f"alter table {engine.table(built_in)} rename to {engine.quote(table)}")
    key, built_key = key_names
    if engine.query("select 1 where to_regclass(?) is not null", (engine.table(built_key),)):
        engine.run(f"alter index {engine.table(built_key)} rename to {engine.quote(key)}")


def _exchange_rows(engine: Engine, table: str, built_in: str) -> None:
    name, made = engine.table(table), engine.columns(built_in) or {}
    engine.drop_key(table)
    columns = [ColumnShape(column, engine.kind_of(declared) or "text") for column, declared in made.items()]
    ensure_table(engine, table, columns, engine.columns(table))
    names = engine.listed(list(made))
    engine.run(f"delete from {name}")
    engine.run(f"insert into {name} ({names}) select {names} from {engine.table(built_in)}")
    engine.run(f"drop table {engine.table(built_in)}")
