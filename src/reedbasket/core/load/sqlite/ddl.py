"""Tables and columns of a SQLite warehouse.

Declared types carry our kinds and, by SQLite's affinity rules (https://sqlite.org/datatype3.html#determination_of_column_affinity),
keep values as they are: a bare DECIMAL or JSON column would turn '0.10' into 0.1, so those say TEXT as well.
"""

from __future__ import annotations

import sqlite3

from ...errors import TableNotOurs, WarehouseError
from ...shape.kinds import EXACT_IN_DOUBLE, Kind
from ...shape.structure import ColumnShape, TableShape

DECLARED: dict[Kind, str] = {
    "bool": "BOOLEAN",
    "int64": "BIGINT",
    "double": "DOUBLE",
    "decimal": "DECIMAL TEXT",
    "text": "TEXT",
    "date": "DATE TEXT",
    "timestamp": "TIMESTAMP TEXT",
    "json": "JSON TEXT",
    "binary": "BLOB",
}

SERVICE_TABLES = (
    """create table if not exists main._rb_ledger (
        load integer primary key, run integer not null, feed text not null, source text not null,
        source_table text not null, "table" text not null, write text not null,
        read integer not null, staged integer not null, inserted integer not null, updated integer not null,
        deleted integer not null, unchanged integer not null, superseded integer not null, rejected integer not null,
        removed integer not null, repeated integer not null, cursor_from text, cursor_to text,
        source_bytes integer not null, started text not null, ended text not null
    )""",
    """create table if not exists main._rb_cursor (
        feed text not null, source_table text not null, "table" text not null, version integer not null,
        kind text, value text, seen blob, link text not null, key text not null, structure text not null,
        load integer, at text not null,
        primary key (feed, source_table)
    )""",
)


def quote(name: str) -> str:
    """A name as an SQL identifier."""
    return '"' + name.replace('"', '""') + '"'


def listed(names: list[str], before: str = "") -> str:
    """Quoted names joined by commas, each with a prefix such as 's.'."""
    return ", ".join(before + quote(n) for n in names)


def existing_columns(connection: sqlite3.Connection, table: str) -> dict[str, str] | None:
    """{column: declared type} of a table or view, None where there is neither."""
    found = connection.execute("select name, type from pragma_table_info(?)", (table,)).fetchall()
    return dict(found) if found else None


def require_ours(shape: TableShape, there: dict[str, str], *, ours: bool) -> None:
    """ours: the feed has loaded into the table before. Raises TableNotOurs for what someone else made."""
    if not ours or "_rb_load" not in there:
        raise TableNotOurs(
            "loading",
            shape.name,
            found=f"something of that name is there already, with {len(there)} columns that this feed did not make",
            mend="give the feed another `prefix`, or rename what is there",
        )


def create_table(connection: sqlite3.Connection, name: str, shape: TableShape, *, row_column: bool, stamps: bool) -> None:
    """A table of the shape under any name. row_column: with `_rb_row`. stamps: with `_rb_load` and `_rb_at`."""
    made = [f"{quote(c.name)} {DECLARED[c.kind]}" for c in shape.columns()]
    if shape.parent_kind is not None:
        made = [f"_rb_parent {DECLARED[shape.parent_kind]}", "_rb_pos INTEGER", *made]
    if row_column:
        made.append("_rb_row TEXT")
    if stamps or not made:  # SQLite knows no table without columns, and there is one where nothing has arrived yet
        made += ["_rb_load INTEGER", "_rb_at TIMESTAMP TEXT"]
    connection.execute(f"create table main.{quote(name)} ({', '.join(made)})")


def bring_up(connection: sqlite3.Connection, name: str, shape: TableShape, *, row_column: bool) -> None:
    """A table that exists, brought to the shape: new columns added, widened ones rebuilt."""
    there = existing_columns(connection, name) or {}
    for column in shape.columns():
        if column.name not in there:
            connection.execute(f"alter table main.{quote(name)} add column {quote(column.name)} {DECLARED[column.kind]}")
    if row_column and "_rb_row" not in there:
        connection.execute(f"alter table main.{quote(name)} add column _rb_row TEXT")
    wider = [c for c in shape.columns() if c.name in there and there[c.name] != DECLARED[c.kind]]
    if wider:
        _rebuild(connection, name, wider)


def replace_table(connection: sqlite3.Connection, old: str, new: str) -> None:
    """Drop `old` and give its name to `new`, within the transaction. Views keep naming it; its indexes and triggers are
    made again on the new one."""
    attached = connection.execute(
        "select sql from main.sqlite_master where tbl_name = ? and type in ('index', 'trigger') and sql is not null", (old,)
    ).fetchall()
    connection.execute(f"drop table main.{quote(old)}")
    rename_table(connection, new, old)
    for (sql,) in attached:
        connection.execute(sql)


def rename_table(connection: sqlite3.Connection, old: str, new: str) -> None:
    # legacy_alter_table: views that name the table by its new name need not make sense in between.
    connection.execute("pragma legacy_alter_table = on")
    try:
        connection.execute(f"alter table main.{quote(old)} rename to {quote(new)}")
    finally:
        connection.execute("pragma legacy_alter_table = off")


def ensure_key(connection: sqlite3.Connection, table: str, key: list[str]) -> None:
    """The unique index on the key, which also carries the merge. Made after the first rows, which is faster."""
    connection.execute(f"create unique index if not exists main.{quote(table + '_key')} on {quote(table)} ({listed(key)})")


def _rebuild(connection: sqlite3.Connection, table: str, wider: list[ColumnShape]) -> None:
    """Change declared types. SQLite cannot alter one, so the table is copied within the transaction and renamed."""
    name, copy = quote(table), f"_rb_wider.{table}"
    kinds = {c.name: c.kind for c in wider}
    for column, kind in kinds.items():
        if kind == "double":
            limit = connection.execute(
                f"select max(abs({quote(column)})) from main.{name} where typeof({quote(column)}) = 'integer'"
            ).fetchone()[0]
            if limit is not None and limit > EXACT_IN_DOUBLE:
                raise WarehouseError(
                    "widening the column",
                    f"{table}.{column}",
                    found=f"fractions arrived where whole numbers up to {limit} are held, and no double holds both exactly",
                    mend="load the table anew, so that the column is made as decimal",
                    code="warehouse.cannot_widen",
                )
    there = existing_columns(connection, table) or {}
    made = [f"{quote(c)} {DECLARED[kinds[c]] if c in kinds else declared}" for c, declared in there.items()]
    # SQLite's own cast to text keeps 15 digits of a double; Python's repr keeps what it takes to read it back.
    connection.create_function("rb_exact_text", 1, lambda v: v if v is None else str(v), deterministic=True)
    taken = [f"rb_exact_text({quote(c)})" if kinds.get(c) == "decimal" else quote(c) for c in there]
    connection.execute(f"create table main.{quote(copy)} ({', '.join(made)})")
    connection.execute(f"insert into main.{quote(copy)} select {', '.join(taken)} from main.{name} order by _rowid_")
    replace_table(connection, table, copy)
