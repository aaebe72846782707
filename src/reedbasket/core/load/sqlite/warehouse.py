"""A SQLite file as a warehouse."""

from __future__ import annotations

import json
import sqlite3
import time
from pathlib import Path
from typing import Any

from ...errors import NotFound, QueryRefused
from ...shape.structure import TableShape
from ..ledger import LedgerLine
from ..warehouse import LoadTarget, QueryResult, SavedCursor, TableInfo, TableState
from .connect import connect_reader, connect_writer, translated
from .ddl import existing_columns, quote
from .load import _LEDGER_COLUMNS, SqliteLoad

# How often SQLite looks at the clock during a query, in its own virtual instructions; 1,000 cost under 1%.
_INSTRUCTIONS_PER_LOOK = 1_000


class SqliteWarehouse:
    """See load.warehouse.Warehouse. The writing connection is opened at the first load; reading never makes a file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._writer: sqlite3.Connection | None = None
        self._reader: sqlite3.Connection | None = None

    def __repr__(self) -> str:
        return f"SqliteWarehouse({self.path})"

    def state(self, feed: str, source_table: str) -> TableState | None:
        row = self._one(
            """select version, structure, kind, value, seen, link, key from _rb_cursor
               where feed = ? and source_table = ?""",
            (feed, source_table),
        )
        if row is None:
            return None
        version, structure, kind, value, seen, link, key = row
        cursor = SavedCursor(kind, value, seen) if value is not None else None
        return TableState(version, TableShape.from_data(json.loads(structure)), cursor, link, json.loads(key))

    def owner(self, table: str) -> tuple[str, str] | None:
        row = self._one('select feed, source_table from _rb_cursor where "table" = ?', (table,))
        return (row[0], row[1]) if row else None

    def existing(self, table: str) -> dict[str, str] | None:
        connection = self._open_reader()
        if connection is None:
            return None
        with translated("looking at", self.path):
            return existing_columns(connection, table)

    def begin(self, target: LoadTarget, state: TableState | None) -> SqliteLoad:
        return SqliteLoad(self._open_writer(), self.path, target, state)

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
            if existing_columns(connection, "_rb_ledger"):
                latest = {
                    table: (feed, load, ended)
                    for table, feed, load, ended in connection.execute(
                        'select "table", feed, max(load), ended from _rb_ledger group by "table"'
                    )
                }
            found = []
            for name in names:
                columns = list((existing_columns(connection, name) or {}).items())
                count = connection.execute(f"select count(*) from {quote(name)}").fetchone()[0]
                feed, load, ended = latest.get(name, (None, None, None))
                found.append(TableInfo(name, columns, count, feed, load, ended))
            return found

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        connection = self._open_reader()
        if connection is None or not self.existing("_rb_ledger"):
            return []
        with translated("reading the ledger of", self.path):
            rows = connection.execute(
                f"""select {", ".join('"' + c + '"' for c in _LEDGER_COLUMNS)} from _rb_ledger
                    where load > ? and (? is null or feed = ?) order by load limit ?""",
                (after, feed, feed, limit),
            )
            return [LedgerLine(*row) for row in rows]

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
        shown = self._query(f"select * from {quote(table)} {order} limit ? offset ?", (limit + 1, offset), limit, seconds=30.0)
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

    def _one(self, sql: str, parameters: tuple[Any, ...]) -> Any:
        """The first row; None where the file or the service tables are not there yet."""
        connection = self._open_reader()
        if connection is None or not self.existing("_rb_cursor"):
            return None
        with translated("reading the state in", self.path):
            return connection.execute(sql, parameters).fetchone()

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
