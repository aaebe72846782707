"""MariaDB and MySQL as an engine of the loader."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import pymysql
from pymysql.constants import ER
from typing_extensions import override

from ...errors import ConnectionLost, WarehouseBusy, WarehouseError
from ...mysql import Address, is_lost, parts, rows
from ...records.column_types import Kind
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import Engine
from ..loader.stage import OWNER
from ..merge import Merge
from ..widening import require_exact
from . import bulk
from .connect import LOCK_SECONDS, collation, connect_writer, translated
from .merging import merge_stage
from .texts import texts_of
from .types import RowLimits, TypeNames, declared_as, widened

_KEY = "_rb_key"
_NEXT = "_rb_next_load"
# The number of a row: no reader sees the column who does not name it.
_ROW_NUMBER = "_rb_row_number bigint unsigned not null auto_increment invisible primary key"
_COLUMNS = """
select column_name, column_type, collation_name from information_schema.columns
where table_schema = database() and table_name = %s and column_name <> '_rb_row_number' order by ordinal_position"""


class MysqlEngine(TypeNames, Engine):
    """SQL of MariaDB and MySQL, on one connection. Statements that change tables commit by themselves; those that concern temporary tables
    do not, as long as these are only created and dropped.
    """

    ddl_commits = True

    def __init__(self, address: Address) -> None:
        self.address = address
        self._indexed: set[str] = set()
        self._locks: list[str] = []
        self._connect()

    def _connect(self) -> None:
        self._connection = connect_writer(self.address)
        self._collation = collation(self._connection)
        ((bulk_allowed, page),) = rows(self._connection, "select @@local_infile, @@innodb_page_size")
        self._send: Callable[[pymysql.Connection[Any], str, bulk.Texts], None] = bulk.load if bulk_allowed else bulk.insert
        self.limits = RowLimits.of_pages(int(page))

    @contextmanager
    @override
    def translated(self, doing: str) -> Iterator[None]:
        with translated(doing, self.address):
            yield

    @override
    def begin(self) -> None:
        self._connection.begin()

    @override
    def commit(self) -> None:
        try:
            self._connection.commit()
        except (pymysql.Error, OSError, EOFError) as error:
            if is_lost(error):
                raise ConnectionLost(
                    "committing to", str(self.address), found="the connection was lost in the middle of the commit",
                    fix="check that the server is up, then run again",
                ) from error  # fmt: skip
            raise
        # All is committed; where the connection is lost now, the locks went with it.
        with suppress(pymysql.Error, OSError, EOFError):
            self._unlock()

    @override
    def rollback(self) -> None:
        with suppress(pymysql.Error, OSError, EOFError):
            self._connection.rollback()
            self._unlock()

    @override
    def run(self, sql: str) -> int:
        with self._connection.cursor() as cursor:
            return int(cursor.execute(sql))

    @override
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        with self._connection.cursor() as cursor:
            cursor.execute(self._with_values(sql, values))

    @override
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        with self._connection.cursor() as cursor:
            cursor.execute(self._with_values(sql, values))
            return list(cursor.fetchall())

    def _with_values(self, sql: str, values: Sequence[Any]) -> str:
        """Our own statements only: those that bind values have no `?` elsewhere."""
        if not values:
            return sql
        pieces = sql.split("?")
        literals = [f"x'{v.hex()}'" if isinstance(v, bytes) else str(self._connection.escape(v)) for v in values]
        return "".join(piece + literal for piece, literal in zip(pieces, [*literals, ""], strict=True))

    @override
    def reconnect(self) -> None:
        self.close()
        self._connect()

    def close(self) -> None:
        """Close the connection."""
        self._indexed.clear()
        self._locks.clear()
        with suppress(pymysql.Error, OSError):
            self._connection.close()

    # Tables

    @override
    def table(self, name: str) -> str:
        return self.quote(name)

    @override
    def columns(self, table: str) -> dict[str, str] | None:
        return catalogued(lambda sql, name: rows(self._connection, sql, name), table)

    @override
    def is_table(self, table: str) -> bool:
        return bool(
            self.query(
                """select 1 from information_schema.tables
                   where table_schema = database() and table_name = ? and table_type = 'BASE TABLE'""",
                (table,),
            )
        )

    @override
    def make_table(self, sql_name: str, columns: str) -> None:
        # Two feeds may both be the first to load.
        self.run(f"create table if not exists {sql_name} ({columns}) {self._options}")

    @override
    def create(self, sql_name: str, columns: Sequence[ColumnShape]) -> None:
        made = ", ".join([*map(self.column_sql, columns), _ROW_NUMBER])
        self.run(f"create table {sql_name} ({made}) {self._options}")

    @property
    def _options(self) -> str:
        return f"engine = InnoDB row_format = dynamic character set utf8mb4 collate {self._collation}"

    @override
    def index_files(self, table: str) -> None:
        with self._tolerated(ER.DUP_KEYNAME):
            super().index_files(table)

    @override
    def create_temp(self, name: str, columns: Sequence[ColumnShape], key: Sequence[str] = ()) -> None:
        made = [self.column_sql(column) for column in columns]
        declared = {column.name: self.declared(column) for column in columns}
        made += [_ROW_NUMBER, "index (_rb_owner)"] if OWNER.name in declared else []
        made += [f"index ({self.indexed(key, declared)[0]})"] if key else []
        # What an earlier load of this connection left behind would be in the way.
        self.drop_temp(name)
        self.run(f"create temporary table {name} ({', '.join(made)}) {self._options}")
        if key:
            self._indexed.add(name)

    @override
    def create_temp_as(self, name: str, query: str) -> None:
        self.run(f"create temporary table {name} engine = InnoDB as {query}")

    @override
    def drop_temp(self, name: str) -> None:
        self.run(f"drop temporary table if exists {name}")
        self._indexed.discard(name)

    @override
    def add_constant(self, sql_name: str, column: ColumnShape, value: str) -> None:
        super().add_constant(sql_name, column, value)
        self.run(f"alter table {sql_name} alter column {self.quote(column.name)} drop default")

    @override
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        """By a copy that replaces the table, so that it takes place as a whole; a view that names the table does not notice."""
        require_exact(self, self.quote(table), table, columns)
        copy = _beside(table, "wider")
        what = "temporary table" if temp else "table"
        self.run(f"drop {what} if exists {copy}")
        self.run(f"create {what} {copy} like {self.quote(table)}")
        changes = {column.name: self.widened(self.quote(column.name), before, column) for before, column in columns}
        for index in {row[2] for row in self.query(f"show index from {copy}") if row[4] in changes}:
            self.run(f"alter table {copy} drop index {self.quote(index)}")
        self.run(f"alter table {copy} " + ", ".join(f"modify column {self.column_sql(column)}" for _, column in columns))
        names = list(self._described(table))
        numbered = [] if temp else ["_rb_row_number"]
        into = self.listed([*names, *numbered])
        values = ", ".join([*(changes.get(name, self.quote(name)) for name in names), *numbered])
        self.run(f"insert into {copy} ({into}) select {values} from {self.quote(table)}")
        if temp:
            self.drop_temp(table)
            self.run(f"alter table {copy} rename to {table}")
        else:
            self.exchange({table: copy})

    @override
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        return widened(self, expression, before, column)

    @override
    def exchange(self, tables: Mapping[str, str]) -> None:
        renames, leaving = [], []
        for table, built_in in tables.items():
            if self.columns(table) is not None:
                old = _beside(table, "earlier")
                self.run(f"drop table if exists {old}")
                renames.append(f"{self.quote(table)} to {old}")
                leaving.append(old)
            renames.append(f"{self.quote(built_in)} to {self.quote(table)}")
        # One statement: readers see all of the tables as they were, or all as they are now.
        self.run(f"rename table {', '.join(renames)}")
        for old in leaving:
            self.run(f"drop table if exists {old}")

    @override
    def prepare_commit(self, tables: Sequence[str]) -> None:
        self.run(f"create table if not exists {_NEXT} (only_row int primary key, next_load bigint not null) engine = InnoDB")
        left = [_beside(table, what) for table in tables for what in ("wider", "earlier")]
        self.run(f"drop table if exists {', '.join(left)}")

    @override
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False) -> None:
        self.index_key(table, key, current=current)

    def index_key(self, table: str, key: Sequence[str], *, current: bool = False) -> bool:
        """As `ensure_key`. Returns whether the index is unique: one of texts holds only their beginnings."""
        columns, whole = self.indexed(key, self.columns(table) or {})
        if self._key_exists(table):
            return whole and not current
        unique = "unique " if whole and not current else ""
        ended = ", _rb_valid_until" if current else ""
        self.run(f"alter table {self.quote(table)} add {unique}index {_KEY} ({columns}{ended})")
        return whole and not current

    @override
    def drop_key(self, table: str) -> None:
        if self._key_exists(table):
            self.run(f"alter table {self.quote(table)} drop index {_KEY}")

    def _key_exists(self, table: str) -> bool:
        return bool(
            self.query(
                """select 1 from information_schema.statistics
                   where table_schema = database() and table_name = ? and index_name = ? limit 1""",
                (table, _KEY),
            )
        )

    def _described(self, table: str) -> dict[str, str]:
        """As `columns`, of a temporary table too, which the catalogue does not list."""
        found = self.query(f"show full columns from {self.quote(table)}")
        return {row[0]: declared_as(row[1], row[2]) for row in found if row[0] != self.row_id}

    # Rows

    @override
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch) -> None:
        try:
            self._send(self._connection, sql_name, texts_of(self, columns, batch))
        except bulk.NotStored as error:
            raise WarehouseError(
                f"loading {batch.table} into", str(self.address), found=f"the server would change what was sent: {error}",
                fix="set a wider type for the column (`cast`), or report this with the value", code="warehouse.failed",
            ) from error  # fmt: skip

    @override
    def empty(self, name: str) -> None:
        self.run(f"truncate table {name}")

    @override
    def index_stage(self, name: str, key: Sequence[str]) -> None:
        if name not in self._indexed:
            self.run(f"alter table {name} add index ({self.indexed(key, self._described(name))[0]})")
            self._indexed.add(name)

    @override
    def merge(self, merge: Merge) -> tuple[int, int]:
        return merge_stage(self, merge)

    @override
    def delete_matching(self, table: str, temp: str, key: Sequence[str], also: str = "true") -> int:
        return self.run(f"delete t from {temp} as g join {table} as t on {self.matching(key, 't', 'g')} where {also}")

    @override
    def update_joined(self, table: str, temp: str, match: str, what: str) -> int:
        return self.run(f"update {temp} as g join {table} as t on {match} set {what}")

    # Service tables

    @override
    def serialise(self, feed: str, source_table: str) -> None:
        if self.columns("_rb_ledger") is None:
            self._lock("")  # whoever comes first makes the service tables
        self._lock(f"{feed}.{source_table}")

    def _lock(self, what: str) -> None:
        """Until the transaction ends. Such locks are the server's, and of names of 64 characters."""
        name = "reed_" + hashlib.sha256(f"{self.address.database}\0{what}".encode()).hexdigest()[:40]
        if name in self._locks:
            return
        if self.query("select get_lock(?, ?)", (name, LOCK_SECONDS))[0][0] != 1:
            raise WarehouseBusy(
                "committing to", str(self.address), found=f"another run commits to the same table for more than {LOCK_SECONDS} s",
                fix="see `reed runs`; run again when it has ended",
            )  # fmt: skip
        self._locks.append(name)

    def _unlock(self) -> None:
        while self._locks:
            self.query("select release_lock(?)", (self._locks.pop(),))

    @override
    def next_loads(self, count: int) -> list[int]:
        # Several feeds commit at once here, so the highest load of the ledger tells nothing.
        self.run(
            f"""insert into {_NEXT} (only_row, next_load) select 1, coalesce(max("load"), 0) + 1 from _rb_ledger
                on duplicate key update next_load = next_load"""
        )
        self.run(f"update {_NEXT} set next_load = last_insert_id(next_load) + {count}")
        first = int(self.query("select last_insert_id()")[0][0])
        return list(range(first, first + count))

    @contextmanager
    def _tolerated(self, number: int) -> Iterator[None]:
        """An error with this number is none."""
        try:
            yield
        except pymysql.Error as error:
            if parts(error)[0] != number:
                raise


def _beside(table: str, what: str) -> str:
    """The name of a table that exists only while another is changed."""
    return f"_rb_{what}_{hashlib.sha256(table.encode()).hexdigest()[:12]}"


def catalogued(query: Callable[[str, str], Sequence[Sequence[Any]]], table: str) -> dict[str, str] | None:
    """{column: declared type} of a table or view; None if there is none of that name.

    Args:
        query: executes a statement with one value.
    """
    found = query(_COLUMNS, table)
    return {name: declared_as(declared, collated) for name, declared, collated in found} if found else None
