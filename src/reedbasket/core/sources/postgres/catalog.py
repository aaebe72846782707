"""The catalog of a PostgreSQL database."""

from __future__ import annotations

from typing import Any

import psycopg

from ..sql.tables import Column, Table
from .types import PgType, read_as

_TYPES = "select oid, typname, typtype, typcategory, typbasetype, typtypmod from pg_type"
# One statement for all: 600 tables in well under a second. Partitions are left out: they are read through the whole table. PostgreSQL
# records neither missing values nor a file for a partitioned table itself, so any default counts as filled in, and the partitions' files
# tell whether it was rewritten.
_TABLES = """
select n.nspname, c.relname, c.relkind, case when c.reltuples >= 0 then c.reltuples::int8 end,
       coalesce(obj_description(c.oid, 'pg_class'), ''),
       has_schema_privilege(n.oid, 'USAGE') and has_table_privilege(c.oid, 'SELECT'),
       (select json_agg(json_build_array(a.attname, format_type(a.atttypid, a.atttypmod), a.atttypid::int8, a.atttypmod,
                                         not a.attnotnull, coalesce(to_jsonb(a) ->> 'attgenerated', '') <> '',
                                         case when coalesce(to_jsonb(a) ->> 'atthasmissing', '') = 'true'
                                                or (c.relkind = 'p' and a.atthasdef)
                                              then 'yes'
                                              when a.atthasdef then 'if rewritten' else '' end, a.xmin::text, a.attnum) order by a.attnum)
        from pg_attribute a where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped),
       (select json_agg(json_build_array(
                 i.indisprimary, i.indisunique and i.indpred is null and i.indexprs is null and i.indisvalid,
                 (select json_agg(a.attname order by k.place)
                  from unnest(i.indkey::int2[]) with ordinality as k(number, place)
                  left join pg_attribute a on a.attrelid = c.oid and a.attnum = k.number
                  where k.place <= i.indnkeyatts)) order by i.indisprimary desc, i.indexrelid)
        from pg_index i where i.indrelid = c.oid and i.indisvalid),
       c.relkind = 'r' and not c.relhassubclass and c.relam = (select oid from pg_am where amname = 'heap')
         and current_setting('server_version_num')::int >= 140000 and not pg_is_in_recovery(),
       case c.relkind when 'r' then c.relfilenode::text when 'p' then
           (with recursive below (oid) as (
                select i.inhrelid from pg_inherits i where i.inhparent = c.oid
                union all select i.inhrelid from pg_inherits i join below on i.inhparent = below.oid)
            select coalesce(md5(string_agg(part.relfilenode::text, ',' order by part.oid)), '')
            from below join pg_class part on part.oid = below.oid)
       else '' end
from pg_class c join pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('r', 'p', 'v', 'm', 'f') and not c.relispartition
  and n.nspname not in ('information_schema', 'pg_catalog') and n.nspname not like 'pg\\_temp%' and n.nspname not like 'pg\\_toast%'
order by n.nspname, c.relname
"""

# Of a plain table, a scan of a range of places is one of its blocks alone, from PostgreSQL 14 on. A standby shares no snapshot between
# connections, and a row that changes from one moment to the next has moved.
_PLACE = Column("ctid", "tid", None, "{}", nullable=False)


def read_types(connection: psycopg.Connection[Any]) -> dict[int, PgType]:
    """{oid: type} of the database."""
    return {row[0]: PgType(*row[1:]) for row in connection.execute(_TYPES).fetchall()}


def read_tables(connection: psycopg.Connection[Any], types: dict[int, PgType]) -> list[Table]:
    """Every table and view that the user may see, with columns, key and estimated rows."""
    return [_table(row, types) for row in connection.execute(_TABLES).fetchall()]


def _table(row: tuple[Any, ...], types: dict[int, PgType]) -> Table:
    schema, name, relkind, rows, about, readable, attributes, indexes, by_place, rewritten = row
    columns = tuple(column_of(types, *attribute) for attribute in attributes or [])
    nullable = {column.name for column in columns if column.nullable}
    keys = [
        tuple(members) for primary, unique, members in indexes or []
        if (primary or unique) and members and None not in members and not nullable & set(members)
    ]  # fmt: skip
    indexed = frozenset(members[0] for _, _, members in indexes or [] if members and members[0] is not None)
    what: Any = "view" if relkind in "vm" else "table"
    return Table(
        schema,
        name,
        what,
        columns,
        keys[0] if keys else (),
        rows,
        indexed,
        about,
        versioned=relkind in "rpm",
        readable=readable,
        place=_PLACE if by_place else None,
        rewritten=rewritten,
    )


def column_of(  # noqa: PLR0913 - a column of the catalog each
    types: dict[int, PgType],
    name: str,
    declared: str,
    oid: int,
    modifier: int,
    nullable: bool,
    generated: bool = False,
    filled: Any = "",
    altered: str = "",
    number: int = 0,
) -> Column:
    """A column, and how it is read."""
    read = read_as(types, oid, modifier)
    return Column(
        name, declared, read.kind, read.expression, nullable, read.whole, read.fraction, generated, filled, altered, number
    )
