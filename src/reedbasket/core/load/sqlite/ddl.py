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


def ensure_table(
    connection: sqlite3.Connection,
    shape: TableShape,
    *,
    ours: bool,
    key: list[str],
    link_by_row: bool,
    has_children: bool,
) -> bool:
    """Make a table, or bring it up to its shape: new columns added, widened ones rebuilt. True where it is new.

    ours: the feed has loaded into it before. key: its columns that are unique together. Raises TableNotOurs.
    """
    columns = shape.columns()
    there = existing_columns(connection, shape.name)
    if there is None:
        made = [f"{quote(c.name)} {DECLARED[c.kind]}" for c in columns]
        if shape.parent_kind is not None:
            made = [f"_rb_parent {DECLARED[shape.parent_kind]}", "_rb_pos INTEGER", *made]
        if link_by_row and has_children and shape.parent_kind is None:
            made.append("_rb_row TEXT")
        made += ["_rb_load INTEGER", "_rb_at TIMESTAMP TEXT"]
        connection.execute(f"create table main.{quote(shape.name)} ({', '.join(made)})")
        return True
    if not ours or "_rb_load" not in there:
        raise TableNotOurs(
            "loading",
            shape.name,
            found=f"something of that name is there already, with {len(there)} columns that this feed did not make",
            mend="give the feed another `prefix`, or rename what is there",
        )
    for column in columns:
        if column.name not in there:
            connection.execute(f"alter table main.{quote(shape.name)} add column {quote(column.name)} {DECLARED[column.kind]}")
    if link_by_row and has_children and shape.parent_kind is None and "_rb_row" not in there:
        connection.execute(f"alter table main.{quote(shape.name)} add column _rb_row TEXT")
    wider = [c for c in columns if c.name in there and there[c.name] != DECLARED[c.kind]]
    if wider:
        _rebuild(connection, shape, wider, key)
    return False


def ensure_key(connection: sqlite3.Connection, table: str, key: list[str]) -> None:
    """The unique index on the key, which also carries the merge. Made after the first rows, which is faster."""
    connection.execute(f"create unique index if not exists main.{quote(table + '_key')} on {quote(table)} ({listed(key)})")


def _rebuild(connection: sqlite3.Connection, shape: TableShape, wider: list[ColumnShape], key: list[str]) -> None:
    """Change declared types. SQLite cannot alter one, so the table is copied within the transaction and renamed."""
    name, beside = quote(shape.name), quote(shape.name + "_rb_beside")
    kinds = {c.name: c.kind for c in wider}
    for column, kind in kinds.items():
        if kind == "double":
            limit = connection.execute(
                f"select max(abs({quote(column)})) from main.{name} where typeof({quote(column)}) = 'integer'"
            ).fetchone()[0]
            if limit is not None and limit > EXACT_IN_DOUBLE:
                raise WarehouseError(
                    "widening the column",
                    f"{shape.name}.{column}",
                    found=f"fractions arrived where whole numbers up to {limit} are held, and no double holds both exactly",
                    mend="load the table anew, so that the column is made as decimal",
                    code="warehouse.cannot_widen",
                )
    there = existing_columns(connection, shape.name) or {}
    made = [f"{quote(c)} {DECLARED[kinds[c]] if c in kinds else declared}" for c, declared in there.items()]
    # SQLite's own cast to text keeps 15 digits of a double; Python's repr keeps what it takes to read it back.
    connection.create_function("rb_exact_text", 1, lambda v: v if v is None else str(v), deterministic=True)
    taken = [f"rb_exact_text({quote(c)})" if kinds.get(c) == "decimal" else quote(c) for c in there]
    connection.execute(f"create table main.{beside} ({', '.join(made)})")
    connection.execute(f"insert into main.{beside} select {', '.join(taken)} from main.{name}")
    connection.execute(f"drop table main.{name}")
    # legacy_alter_table keeps views that name the table pointing at the new one.
    connection.execute("pragma legacy_alter_table = on")
    connection.execute(f"alter table main.{beside} rename to {name}")
    connection.execute("pragma legacy_alter_table = off")
    if key:
        ensure_key(connection, shape.name, key)
