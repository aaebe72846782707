"""A schema of a PostgreSQL database as a warehouse."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql as pg

from ...errors import NotFound, QueryRefused
from ...spec.model import Warehouse as Definition
from ..ledger import LedgerLine
from ..load import EngineLoad
from ..service_tables import read_hashes, read_ledger, read_state
from ..warehouse import CheckStep, LoadTarget, QueryResult, TableInfo, TableState
from .beside import PostgresBeside
from .check import check
from .connect import Address, connect_reader, said, translated
from .engine import PostgresEngine

_COLUMNS = """
select a.attname::text, format_type(a.atttypid, a.atttypmod) from pg_attribute a
join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace
where n.nspname = %s and c.relname = %s and a.attnum > 0 and not a.attisdropped
and c.relkind in ('r', 'p', 'v', 'm', 'f') order by a.attnum"""


class PostgresWarehouse:
    """See load.warehouse.Warehouse. One connection for loading, one for reading, each opened when first needed."""

    nul_in_text = False

    def __init__(self, definition: Definition, password: str | None, folder: Path) -> None:
        self._address = Address(definition, password, folder)
        self._engine: PostgresEngine | None = None
        self._reader: psycopg.Connection[Any] | None = None

    def __repr__(self) -> str:
        return f"PostgresWarehouse({self._address})"

    def _connection(self) -> psycopg.Connection[Any]:
        if self._reader is None or self._reader.closed:
            self._reader = connect_reader(self._address)
        return self._reader

    def _ask(self, statement: str, values: Sequence[Any]) -> list[tuple[Any, ...]]:
        with translated("reading the state in", self._address):
            marked = statement.replace("?", "%s")
            return self._connection().execute(marked.encode(), tuple(values)).fetchall()

    def _name(self, table: str) -> str:
        return ".".join('"' + part.replace('"', '""') + '"' for part in (self._address.schema, table))

    def state(self, feed: str, source_table: str) -> TableState | None:
        columns = self.existing("_rb_cursor")
        return read_state(self._ask, self._name("_rb_cursor"), columns, feed, source_table) if columns else None

    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        if not self.existing("_rb_hash"):
            return None
        return read_hashes(self._ask, self._name("_rb_hash"), feed, source_table, version)

    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        listed = ", ".join('"' + c.replace('"', '""') + '"' for c in columns)
        only = f' where "{current}" is null' if current else ""
        with translated("reading the keys of", self._address):
            connection = self._connection()
            with connection.transaction(), connection.cursor(name="rb_keys") as cursor:
                cursor.execute(f"select {listed} from {self._name(table)}{only}".encode())
                while rows := cursor.fetchmany(50_000):
                    yield rows

    def owner(self, table: str) -> tuple[str, str] | None:
        if not self.existing("_rb_cursor"):
            return None
        rows = self._ask(f'select feed, source_table from {self._name("_rb_cursor")} where "table" = ?', (table,))
        return (rows[0][0], rows[0][1]) if rows else None

    def existing(self, table: str) -> dict[str, str] | None:
        found = self._ask(_COLUMNS, (self._address.schema, table))
        return dict(found) if found else None

    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        if self._engine is None:
            self._engine = PostgresEngine(self._address)
        engine, schema = self._engine, self._address.schema
        return EngineLoad(engine, target, state, lambda: PostgresBeside(engine, schema, target.feed, target.source_table))

    def tables(self) -> list[TableInfo]:
        names = self._ask(
            "select tablename::text from pg_tables where schemaname = ? and not starts_with(tablename::text, '_rb_') order by 1",
            (self._address.schema,),
        )
        latest: dict[str, tuple[str, int, str]] = {}
        if self.existing("_rb_ledger"):
            for table, feed, load, ended in self._ask(
                f'select distinct on ("table") "table", feed, load, ended from {self._name("_rb_ledger")} '
                'order by "table", load desc',
                (),
            ):
                latest[table] = (feed, load, ended)
        found = []
        for (name,) in names:
            columns = list((self.existing(name) or {}).items())
            count = self._ask(f"select count(*) from {self._name(name)}", ())[0][0]
            found.append(TableInfo(name, columns, count, *latest.get(name, (None, None, None))))
        return found

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        columns = self.existing("_rb_ledger")
        return read_ledger(self._ask, self._name("_rb_ledger"), columns, feed, after, limit) if columns else []

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        columns = self.existing(table)
        if not columns:
            raise NotFound(
                "reading rows of",
                table,
                found=f"no such table in {self._address}",
                mend="see which tables there are with `reed tables`, or run the feed that makes it",
                code="table.not_found",
            )
        order = "order by _rb_load desc, ctid desc" if "_rb_load" in columns else ""
        statement = f"select * from {self._name(table)} {order} limit {int(limit) + 1} offset {int(offset)}"
        shown = self.query(statement, limit=limit, seconds=30.0)
        return QueryResult(list(columns.items()), shown.rows, shown.truncated, shown.seconds)

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        connection = self._connection()
        began = time.monotonic()
        try:
            with connection.transaction(force_rollback=True):
                connection.execute(pg.SQL("set local statement_timeout = {}").format(pg.Literal(int(seconds * 1000))))
                with connection.cursor(name="rb_query") as cursor:
                    # Binary answers need the extended protocol, which takes one statement at a time; a cursor takes only queries.
                    cursor.execute(sql.encode(), binary=True)
                    rows = cursor.fetchmany(limit + 1)
                    columns = [(d.name, "") for d in cursor.description or []]
        except psycopg.errors.QueryCanceled as error:
            raise self._refused(f"it took more than {seconds:g} s", "narrow it, or ask the server yourself") from error
        except psycopg.Error as error:
            raise self._refused(
                said(error), "mend the statement; only one query at a time is answered, and it may not write"
            ) from error
        return QueryResult(columns, rows[:limit], len(rows) > limit, time.monotonic() - began)

    def _refused(self, found: str, mend: str) -> QueryRefused:
        return QueryRefused("asking the warehouse", str(self._address), found=found, mend=mend)

    def check(self) -> list[CheckStep]:
        return check(self._address)

    def close(self) -> None:
        if self._engine is not None:
            self._engine.close()
        if self._reader is not None:
            self._reader.close()
        self._engine = self._reader = None
