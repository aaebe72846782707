"""Views that depend on a table. PostgreSQL refuses to change a column that a view uses, so views are dropped and created again."""

from __future__ import annotations

from ..engine import Engine

# Every view that stands on the table, directly or through others, the deepest last.
_STANDING_ON = """
with recursive above(oid, depth) as (
    select r.ev_class, 1 from pg_depend d join pg_rewrite r on r.oid = d.objid
    where d.classid = 'pg_rewrite'::regclass and d.refobjid = to_regclass(?) and r.ev_class <> d.refobjid
    union
    select r.ev_class, a.depth + 1 from above a join pg_depend d on d.refobjid = a.oid
        join pg_rewrite r on r.oid = d.objid
    where d.classid = 'pg_rewrite'::regclass and r.ev_class <> d.refobjid and a.depth < 50
)
select c.oid::bigint, format('%I.%I', n.nspname, c.relname), c.relkind::text, pg_get_viewdef(c.oid), max(a.depth)
from above a join pg_class c on c.oid = a.oid join pg_namespace n on n.oid = c.relnamespace
group by c.oid, n.nspname, c.relname, c.relkind order by max(a.depth)"""


def grants(engine: Engine, oid: int, on: str) -> list[str]:
    """The statements that grant the rights which others have on a table or view.

    Args:
        oid: of the table or view.
        on: its name, as SQL.
    """
    rows = engine.query(
        """select a.privilege_type, case when a.grantee = 0 then 'public' else quote_ident(r.rolname) end, a.is_grantable
           from pg_class c, aclexplode(c.relacl) a left join pg_roles r on r.oid = a.grantee
           where c.oid = ? and a.grantee <> c.relowner""",
        (oid,),
    )
    return [f"grant {what} on {on} to {who}{' with grant option' if further else ''}" for what, who, further in rows]


def without_views(engine: Engine, schema: str, table: str, statement: str) -> None:
    """Execute a statement that changes a table's columns. Afterwards the views on it are as before, with their grants."""
    views = engine.query(_STANDING_ON, (engine.table(table),))
    again: list[str] = []
    for oid, name, kind, definition, _ in views:
        what = "materialized view" if kind == "m" else "view"
        again.append(f"create {what} {name} as {definition.rstrip().rstrip(';')}")
        again += grants(engine, oid, name)
    for _, name, kind, _, _ in reversed(views):
        engine.run(f"drop {'materialized view' if kind == 'm' else 'view'} {name}")
    engine.run(statement)
    for made in again:
        engine.run(made)
