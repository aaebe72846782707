"""A SQLite file as a warehouse."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from ...errors import NotFound, QueryRefused, WarehouseError
from ..ledger import LedgerLine
from ..load import EngineLoad
from ..service_tables import read_hashes, read_ledger, read_state
from ..warehouse import CheckStep, LoadTarget, QueryResult, TableInfo, TableState
from .beside import SqliteBeside
from .connect import BUSY_SECONDS, connect_reader, connect_writer, translated
from .engine import SqliteEngine

# How often SQLite looks at the clock during a query, in its own virtual instructions; 1,000 cost under 1%.
_INSTRUCTIONS_PER_LOOK = 1_000


class SqliteWarehouse:
    """See load.warehouse.Warehouse. The writing connection is opened at the first load; reading never makes a file."""

    nul_in_text = True

    def __init__(self, path: Path) -> None:
        self.path = path
        self._writer: sqlite3.Connection | None = None
        self._reader: sqlite3.Connection | None = None

    def __repr__(self) -> str:
        return f"SqliteWarehouse({self.path})"

    def state(self, feed: str, source_table: str) -> TableState | None:
        columns = self.existing("_rb_cursor")
        if not columns:
            return None
        return read_state(self._ask, "_rb_cursor", columns, feed, source_table)

    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        return read_hashes(self._ask, "_rb_hash", feed, source_table, version) if self.existing("_rb_hash") else None

    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        connection = self._open_reader()
        assert connection is not None
        only = f" where {_quote(current)} is null" if current else ""
        with translated("reading the keys of", self.path):
            found = connection.execute(f"select {', '.join(map(_quote, columns))} from {_quote(table)}{only}")
            while rows := found.fetchmany(50_000):
                yield rows

    def owner(self, table: str) -> tuple[str, str] | None:
        if not self.existing("_rb_cursor"):
            return None
        rows = self._ask('select feed, source_table from _rb_cursor where "table" = ?', (table,))
        return (rows[0][0], rows[0][1]) if rows else None

    def existing(self, table: str) -> dict[str, str] | None:
        connection = self._open_reader()
        if connection is None:
            return None
        with translated("looking at", self.path):
            return _columns(connection, table)

    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = SqliteEngine(self._open_writer(), self.path)
        return EngineLoad(engine, target, state, lambda: SqliteBeside(engine, target.feed, target.source_table))

    def tables(self) -> list[TableInfo]:
        connection = self._open_reader()
        if connection is None:
            return []
        with translated("listing the tables of", self.path):
            names = [
                name
                for (name,) in connection.execute(
                    """select name from sqlite_master
                       where type = 'table' and name not like 'sqlite#_%' escape '#' and name not like '#_rb#_%' escape '#'
                       order by name"""
                )
            ]
            latest: dict[str, tuple[str, int, str]] = {}
            if _columns(connection, "_rb_ledger"):
                latest = {
                    table: (feed, load, ended)
                    for table, feed, load, ended in connection.execute(
                        'select "table", feed, max(load), ended from _rb_ledger group by "table"'
                    )
                }
            found = []
            for name in names:
                columns = list((_columns(connection, name) or {}).items())
                count = connection.execute(f"select count(*) from {_quote(name)}").fetchone()[0]
                feed, load, ended = latest.get(name, (None, None, None))
                found.append(TableInfo(name, columns, count, feed, load, ended))
            return found

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        columns = self.existing("_rb_ledger")
        return read_ledger(self._ask, "_rb_ledger", columns, feed, after, limit) if columns else []

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        columns = self.existing(table)
        if not columns:
            raise NotFound(
                "reading rows of",
                table,
                found=f"no such table in {self.path.name}",
                mend="see which tables there are with `reed tables`, or run the feed that makes it",
                code="table.not_found",
            )
        order = "order by _rb_load desc, _rowid_ desc" if "_rb_load" in columns else ""
        shown = self._query(f"select * from {_quote(table)} {order} limit ? offset ?", (limit + 1, offset), limit, seconds=30.0)
        return QueryResult(list(columns.items()), shown.rows, shown.truncated, shown.seconds)

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        return self._query(sql, (), limit, seconds)

    def _query(self, sql: str, parameters: tuple[Any, ...], limit: int, seconds: float) -> QueryResult:
        connection = self._open_reader()
        if connection is None:
            raise NotFound(
                "asking the warehouse",
                self.path.name,
                found="nothing was loaded into it yet",
                mend="run a feed",
                code="warehouse.empty",
            )
        began = time.monotonic()
        connection.set_progress_handler(lambda: time.monotonic() - began > seconds, _INSTRUCTIONS_PER_LOOK)
        try:
            cursor = connection.execute(sql, parameters)
            if cursor.description is None:
                raise self._refused("it returns no rows; only queries are answered here", "write a select")
            rows = cursor.fetchmany(limit + 1)
            columns = [(d[0], "") for d in cursor.description]
            cursor.close()
        except sqlite3.Error as error:
            name = getattr(error, "sqlite_errorname", "")
            if name == "SQLITE_INTERRUPT":
                raise self._refused(f"it took more than {seconds:g} s", "narrow it, or open the file yourself") from error
            if name in ("SQLITE_READONLY", "SQLITE_AUTH"):
                raise self._refused(
                    "it would write, or reach outside this warehouse", "the warehouse is read only here; write a select"
                ) from error
            raise self._refused(str(error), "mend the statement") from error
        except sqlite3.Warning as error:  # several statements at once
            raise self._refused(str(error), "send one statement") from error
        finally:
            connection.set_progress_handler(None, 0)
        return QueryResult(columns, rows[:limit], len(rows) > limit, time.monotonic() - began)

    def _refused(self, found: str, mend: str) -> QueryRefused:
        return QueryRefused("asking the warehouse", self.path.name, found=found, mend=mend)

    def _ask(self, sql: str, values: Sequence[Any]) -> list[tuple[Any, ...]]:
        connection = self._open_reader()
        assert connection is not None
        with translated("reading the state in", self.path):
            return connection.execute(sql, values).fetchall()

    def check(self) -> list[CheckStep]:
        steps = []
        folder = self.path.absolute().parent
        while not folder.exists():
            folder = folder.parent
        able = os.access(folder, os.W_OK | os.X_OK)
        steps.append(CheckStep("folder", able, str(folder), "" if able else f"let the service's user write to {folder}"))
        if able and self.path.exists():
            able = os.access(self.path, os.W_OK)
            steps.append(
                CheckStep("file", able, str(self.path), "" if able else f"let the service's user write to {self.path}")
            )
        elif able:
            steps.append(CheckStep("file", True, f"{self.path} will be made by the first load"))
        if not able:
            return [*steps, CheckStep("database", None), CheckStep("write", None)]
        if not self.path.exists():
            return steps
        for step, doing in (("database", "select count(*) from sqlite_master"), ("write", "begin immediate")):
            try:
                with translated("checking", self.path):
                    writer = self._open_writer()
                    writer.execute("pragma busy_timeout = 2000")
                    writer.execute(doing)
                    if writer.in_transaction:
                        writer.execute("rollback")
                    writer.execute(f"pragma busy_timeout = {BUSY_SECONDS * 1000:.0f}")
                steps.append(CheckStep(step, True, f"SQLite {sqlite3.sqlite_version}" if step == "database" else "lock taken"))
            except WarehouseError as error:
                return [*steps, CheckStep(step, False, error.found, error.mend)]
        return steps

    def _open_reader(self) -> sqlite3.Connection | None:
        if self._reader is None:
            if not self.path.exists():
                return None
            self._reader = connect_reader(self.path)
        return self._reader

    def _open_writer(self) -> sqlite3.Connection:
        if self._writer is None:
            self._writer = connect_writer(self.path)
        return self._writer

    def close(self) -> None:
        for connection in (self._reader, self._writer):
            if connection is not None:
                connection.close()
        self._reader = self._writer = None


def _columns(connection: sqlite3.Connection, table: str) -> dict[str, str] | None:
    found = connection.execute("select name, type from pragma_table_info(?)", (table,)).fetchall()
    return dict(found) if found else None


def _quote(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
