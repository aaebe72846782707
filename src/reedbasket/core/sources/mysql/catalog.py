"""The catalog of a MySQL server's databases."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from typing import Any

import pymysql

from ...mysql import is_maria, rows
from ..sql.tables import Column, Table
from .types import column_of

_SYSTEM = "('information_schema', 'mysql', 'performance_schema', 'sys')"
_TABLES = f"""
select table_schema, table_name, table_type, table_rows, table_comment from information_schema.tables
where table_schema not in {_SYSTEM} and table_type in ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED') order by 1, 2
"""
_COLUMNS = f"""
select table_schema, table_name, column_name, column_type, is_nullable = 'YES',
       is_nullable = 'NO' or coalesce(column_default, 'NULL') <> 'NULL' from information_schema.columns
where table_schema not in {_SYSTEM} order by 1, 2, ordinal_position
"""
_INDEXES = f"""
select table_schema, table_name, index_name, non_unique, column_name from information_schema.statistics
where table_schema not in {_SYSTEM} order by 1, 2, index_name = 'PRIMARY' desc, index_name, seq_in_index
"""
_JSON = f"""
select constraint_schema, table_name, check_clause from information_schema.check_constraints
where constraint_schema not in {_SYSTEM} and check_clause like 'json_valid(%'
"""

Place = tuple[str, str]


def read_tables(connection: pymysql.Connection[Any]) -> list[Table]:
    """Every table and view that the user may see, with columns, key and estimated rows."""
    json_columns: set[tuple[str, str, str]] = set()
    if is_maria(connection):
        json_columns = {(s, t, clause[12:].rstrip(")`")) for s, t, clause in rows(connection, _JSON)}
    columns: dict[Place, list[Column]] = defaultdict(list)
    for schema, table, name, declared, nullable, filled in rows(connection, _COLUMNS):
        is_json = (schema, table, name) in json_columns
        column = column_of(name, _text(declared), bool(nullable), is_json=is_json)
        columns[schema, table].append(replace(column, filled="yes" if filled else ""))
    indexes: dict[Place, dict[str, tuple[bool, list[str | None]]]] = defaultdict(dict)
    for schema, table, index, repeats, column in rows(connection, _INDEXES):
        indexes[schema, table].setdefault(index, (not repeats, []))[1].append(column)
    return [
        _table(schema, name, what, count, _text(comment or ""), columns[schema, name], indexes[schema, name])
        for schema, name, what, count, comment in rows(connection, _TABLES)
    ]


def _table(
    schema: str,
    name: str,
    what: str,
    count: int | None,
    comment: str,
    columns: list[Column],
    indexes: dict[str, tuple[bool, list[str | None]]],
) -> Table:
    nullable = {column.name for column in columns if column.nullable}
    keys = [
        tuple(members) for unique, members in indexes.values() if unique and None not in members and not nullable & set(members)
    ]
    indexed = frozenset(members[0] for _, members in indexes.values() if members and members[0] is not None)
    is_view = what == "VIEW"
    return Table(
        schema,
        name,
        "view" if is_view else "table",
        tuple(columns),
        keys[0] if keys else (),  # type: ignore[arg-type]
        None if is_view else count,
        indexed,
        "" if is_view else comment,
    )


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value)
