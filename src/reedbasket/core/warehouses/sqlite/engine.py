"""SQLite as an engine of the loader.

Declared types name the loader's types and, by SQLite's affinity rules
(https://sqlite.org/datatype3.html#determination_of_column_affinity), keep values as they are: a plain DECIMAL or JSON column would turn
'0.10' into 0.1, so those say TEXT as well.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from typing_extensions import override

from ...records.column_types import Kind
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import FILE, Engine, utc
from ..limits import Limits
from ..merge import Merge, Stamp
from ..widening import require_exact
from .connect import translated
from .values import bindable, converter, insert_rows

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
    "uuid": "UUID TEXT",
}
# From here on a statement of its own for the rows of one file is cheaper than binding its number to each.
_ROWS_OF_A_FILE = 5_000


class SqliteEngine(Engine):
    """SQLite's SQL, on one connection."""

    # SQLITE_MAX_COLUMN, as Python's library is built.
    limits = Limits(columns=2_000)
    temp = "temp."
    arrival = "s._rowid_"
    types = DECLARED
    stamps_on_insert = True

    def __init__(self, connection: sqlite3.Connection, path: Path) -> None:
        self.connection = connection
        self._path = path

    @contextmanager
    @override
    def translated(self, doing: str) -> Iterator[None]:
        with translated(doing, self._path):
            yield

    @override
    def begin(self) -> None:
        self.connection.execute("begin immediate")

    @override
    def commit(self) -> None:
        self.connection.execute("commit")

    @override
    def rollback(self) -> None:
        if self.connection.in_transaction:
            self.connection.execute("rollback")

    @override
    def run(self, sql: str) -> int:
        return self.connection.execute(sql).rowcount

    @override
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        self.connection.execute(sql, values)

    @override
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        return self.connection.execute(sql, values).fetchall()

    # Names and types

    @override
    def table(self, name: str) -> str:
        return f"main.{self.quote(name)}"

    @override
    def time(self, moment: datetime) -> str:
        return f"'{utc(moment).strftime('%Y-%m-%d %H:%M:%S.%fZ')}'"

    @override
    def differs(self, columns: Sequence[str], left: str, right: str) -> str:
        # As row values: a chain of ORs over 1,000 columns is deeper than SQLite's expressions may be.
        return f"({self.listed(columns, left)}) is not ({self.listed(columns, right)})"

    @override
    def bare(self, expression: str) -> str:
        # Stages are untyped. Compared with a typed column, their values would first be converted, and their index is of no use:
        # every row of the table would go through the whole stage (https://sqlite.org/datatype3.html, 4.2).
        return f"+{expression}"

    # Tables

    @override
    def columns(self, table: str) -> dict[str, str] | None:
        found: list[Any] = self.query("select name, type from pragma_table_info(?)", (table,))
        return dict(found) if found else None

    @override
    def is_table(self, table: str) -> bool:
        return bool(self.query("select 1 from main.sqlite_master where type = 'table' and name = ?", (table,)))

    @override
    def create_temp(self, name: str, columns: Sequence[ColumnShape], key: Sequence[str] = ()) -> None:
        # Untyped, so that what was bound comes back.
        self.run(f"create temp table {name} ({self.listed([c.name for c in columns])})")
        if key:
            self.index_stage(name, key)

    @override
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        sql_name = f"{'temp' if temp else 'main'}.{self.quote(table)}"
        require_exact(self, sql_name, table, columns, where="where typeof({}) = 'integer'")
        changes = {c.name: (self.widened(self.quote(c.name), before, c), DECLARED[c.kind]) for before, c in columns}
        if temp:
            sets = ", ".join(f"{self.quote(c)} = {value}" for c, (value, _) in changes.items())
            self.run(f"update temp.{table} set {sets}")
            return
        # SQLite cannot alter a declared type, so the table is copied within the transaction and renamed.
        there = self.columns(table) or {}
        copy = f"_rb_wider.{table}"
        made = [f"{self.quote(c)} {changes[c][1] if c in changes else type_}" for c, type_ in there.items()]
        taken = [changes[c][0] if c in changes else self.quote(c) for c in there]
        self.run(f"create table {self.table(copy)} ({', '.join(made)})")
        self.run(f"insert into {self.table(copy)} select {', '.join(taken)} from {self.table(table)} order by _rowid_")
        self.replace_table(table, copy)

    @override
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        name = f"rb_{before}_as_{column.kind}"
        self.connection.create_function(name, 1, converter(before, column.kind), deterministic=True)
        return f"{name}({expression})"

    @override
    def exchange(self, tables: Mapping[str, str]) -> None:
        for table, built_in in tables.items():
            if self.columns(table) is None:
                self.rename_table(built_in, table)
            else:
                self.replace_table(table, built_in, keep_key=False)

    def replace_table(self, old: str, new: str, *, keep_key: bool = True) -> None:
        """Drop `old` and give its name to `new`, within the transaction. Views keep naming it; its indexes and triggers are created again
        on the new one.

        Args:
            keep_key: create the index of the key too.
        """
        attached = self.query(
            """select sql from main.sqlite_master
               where tbl_name = ? and type in ('index', 'trigger') and sql is not null and name <> ?""",
            (old, "" if keep_key else f"{old}_key"),
        )
        self.run(f"drop table {self.table(old)}")
        self.rename_table(new, old)
        for (sql,) in attached:
            self.run(sql)

    def rename_table(self, old: str, new: str) -> None:
        """Rename without SQLite's check of views that name the table."""
        # legacy_alter_table: views that name the table by its new name need not make sense in between.
        self.run("pragma legacy_alter_table = on")
        try:
            self.run(f"alter table {self.table(old)} rename to {self.quote(new)}")
        finally:
            self.run("pragma legacy_alter_table = off")

    @override
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False, key_of: str | None = None) -> None:
        """See Engine.

        Args:
            key_of: the table that this one is about to replace, whose name the index gets.
        """
        # Made after the first rows, which is faster; it also carries the merge.
        name, only = self.quote(f"{key_of or table}_key"), " where _rb_valid_until is null" if current else ""
        self.run(f"create unique index if not exists main.{name} on {self.quote(table)} ({self.listed(key)}){only}")

    @override
    def drop_key(self, table: str) -> None:
        self.run(f"drop index if exists main.{self.quote(f'{table}_key')}")

    # Rows

    @override
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch, stamp: Stamp | None = None) -> None:
        data = {c.name: c for c in columns}
        names: list[str] = []
        values: list[Any] = []
        constants = {"_rb_ledger_line": str(stamp.load), "_rb_loaded_at": stamp.at} if stamp else {}
        for name, held in batch.own.items():
            if held is None or name not in data:
                continue
            if name == FILE and batch.columns and batch.rows >= _ROWS_OF_A_FILE and held.count(held[0]) == batch.rows:
                constants[name] = str(int(held[0]))
            else:
                names.append(name)
                values.append(held)
        for name, (kind, held) in batch.columns.items():
            names.append(name)
            values.append(bindable(kind, held))
        into = self.listed([*names, *constants])
        insert_rows(self.connection, sql_name, into, values, constants.values())

    @override
    def insert_stamped(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch, stamp: Stamp) -> None:
        self.insert(sql_name, columns, batch, stamp)

    @override
    def index_stage(self, name: str, key: Sequence[str]) -> None:
        short = name.removeprefix(self.temp)
        self.run(f"create index if not exists temp.{short}_by_key on {short} ({self.listed(key)})")

    @override
    def merge(self, merge: Merge) -> tuple[int, int]:
        # New rows get the row ids after the highest, so the growth of the highest is the number of rows inserted: exact,
        # and without a second join against the whole table.
        highest = f"select coalesce(max(_rowid_), 0) from {merge.table}"
        before = self.query(highest)[0][0]
        plain = merge.table.removeprefix("main.")
        stamp = merge.stamp
        stamps = ", _rb_ledger_line = excluded._rb_ledger_line, _rb_loaded_at = excluded._rb_loaded_at" if stamp else ""
        revive = f" or {plain}._rb_deleted_at is not null" if merge.revive else ""
        rest = [n for n in merge.names if n not in merge.key]
        if merge.compared or merge.revive:
            sets = [f"{self.quote(c)} = excluded.{self.quote(c)}" for c in rest]
            sets += ["_rb_deleted_at = null"] if merge.revive else []
            differs = self.differs(merge.compared, plain, "excluded") if merge.compared else "false"
            conflict = f"do update set {', '.join(sets)}{stamps} where {differs}{revive}"
        else:
            conflict = "do nothing"
        values = self.listed(merge.names, "s") + (f", {stamp.load}, {stamp.at}" if stamp else "")
        # Without `where true` SQLite's parser takes ON CONFLICT for a join's ON (https://sqlite.org/lang_upsert.html, 2.1).
        done = self.run(
            f"""insert into {merge.table} ({self.listed(merge.names)}{", _rb_ledger_line, _rb_loaded_at" if stamp else ""})
                select {values} from {merge.stage} as s where true on conflict ({self.listed(merge.key)}) {conflict}"""
        )
        inserted = self.query(highest)[0][0] - before
        return inserted, done - inserted

    @override
    def delete_matching(self, table: str, temp: str, key: Sequence[str], also: str = "true") -> int:
        match = self.matching(key, "t", "g")
        return self.run(
            f"""delete from {table} where _rowid_ in (
                    select t._rowid_ from {temp} as g cross join {table} as t on {match} where {also})"""
        )

    @override
    def next_loads(self, count: int) -> list[int]:
        first = int(self.query("select coalesce(max(load), 0) + 1 from main._rb_ledger")[0][0])
        return list(range(first, first + count))
