"""Reading SQLite through Python's own module: a file that other programs write at the same time."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
from typing_extensions import override

from ...allowed_paths import Places
from ...errors import RunCancelled, SourceError
from ...records.column_types import Kind
from ..sql.database import Database, DatabaseErrors, typed
from ..sql.tables import Column, Statement, Table
from .definition import SqliteSourceDefinition
from .values import column_of, declared_kind

_ROWS_AT_ONCE = 5_000
# SQLite asks back after so many of its steps whether it is to go on: some 20 times a second.
_STEPS = 200_000
_LOWEST: dict[Kind, Any] = {"int64": -(2**63), "double": float("-inf"), "decimal": float("-inf")}
_TABLES = """
select name, type, sql from sqlite_schema
where type in ('table', 'view') and name not like 'sqlite\\_%' escape '\\' order by name
"""
_COLUMNS = 'select name, type, "notnull", pk, hidden from pragma_table_xinfo(?) order by cid'
_INDEXED = """
select i.name from pragma_index_list(:name) as l, pragma_index_info(l.name) as i
where i.seqno = 0 and i.name is not null and l.partial = 0
"""
_UNIQUE = """
select l.name, i.name from pragma_index_list(:name) as l, pragma_index_info(l.name) as i
where l."unique" and not l.partial order by l.seq, i.seqno
"""


class SqliteSource(Database):
    """See Database. If the file is in WAL mode, one transaction shows all tables as they were at the start of the run without holding up
    writers; otherwise each statement sees its own moment.
    """

    as_text = "cast({} as text)"

    def __init__(self, path: Path, zone: str, timeout: timedelta, stop: threading.Event) -> None:
        self.path = path
        self._zone = ZoneInfo(zone)
        self._stop = stop
        self._timeout = timeout.total_seconds()
        self.errors = DatabaseErrors(str(path))
        self._deadline = float("inf")
        with self._translated("opening"):
            if not path.exists():
                raise SourceError(
                    "opening", str(path), found="there is no such file", fix="correct `path` in the source's definition",
                    code="source.file_not_found",
                )  # fmt: skip
            self._connection = sqlite3.connect(
                f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=30, isolation_level=None, check_same_thread=False
            )
            self._connection.execute("pragma query_only = on")
            self._connection.execute("pragma cache_size = -16000")
            self._connection.set_progress_handler(self._is_over, _STEPS)
            if self._connection.execute("pragma journal_mode").fetchone()[0] == "wal":
                self._connection.execute("begin")
                self._connection.execute("select 1 from sqlite_schema limit 1").fetchall()

    @override
    def share_of(self, many: str, count: int) -> str:
        return f"max({many} / {count}, 1)"

    @override
    def tables(self) -> list[Table]:
        with self._translated("reading the catalog of"):
            return [self._table(*row) for row in self._connection.execute(_TABLES).fetchall()]

    @override
    def describe(self, query: str, values: dict[str, Any]) -> Table:
        self.errors.require_known(query, values)
        with self._translated("describing a query, at"):
            cursor = self._connection.execute(f"select * from ({query}\n) limit 0", _bindable(values))
            columns = tuple(Column(found[0], "", None, "{}") for found in cursor.description or [])
        return Table("", "", "query", columns)

    @override
    def read(self, statement: Statement) -> Iterator[pa.Table]:
        self.errors.require_known(statement.text, statement.values)
        with self._translated("reading from"):
            self._deadline = time.monotonic() + self._timeout
            cursor = self._connection.execute(statement.text, _bindable(dict(statement.values)))
            try:
                while rows := cursor.fetchmany(_ROWS_AT_ONCE):
                    columns = [column_of(c, list(v), self._zone) for c, v in zip(statement.columns, zip(*rows))]
                    yield typed(columns, len(rows))
                    self._deadline = time.monotonic() + self._timeout
                self._deadline = float("inf")
            finally:
                # While it lives nobody else may write. Who was cut off closed the connection before, and whoever holds the error holds
                # this frame.
                del cursor

    @override
    def quote(self, name: str) -> str:
        return '"' + name.replace('"', '""') + '"'

    @override
    def bound(self, table: str, column: Column, value: Any) -> Any:
        if not isinstance(value, datetime):
            return value
        with self._translated("reading the newest time of"):
            quoted = self.quote(column.name)
            found = self._connection.execute(f"select max({quoted}) from {table}").fetchone()
        return _as_stored(found[0], value, self._zone) if found and found[0] is not None else ""

    @override
    def lowest(self, kind: Kind) -> Any:
        return _LOWEST.get(kind, "")

    @override
    def close(self) -> None:
        self._connection.close()

    def _table(self, name: str, what: str, text: str | None) -> Table:
        try:
            rows = self._connection.execute(_COLUMNS, (name,)).fetchall()
        except sqlite3.OperationalError as error:
            if what != "view" or getattr(error, "sqlite_errorname", "") != "SQLITE_ERROR":
                raise
            # It names what is not there any more; that is no matter of the tables beside it.
            return Table("", name, "view", (), description=str(error), readable=False)
        keyed = sorted((pk, column) for column, _, _, pk, _ in rows if pk)
        columns = tuple(
            Column(column, declared, declared_kind(declared), "{}", nullable=not notnull and not pk)
            for column, declared, notnull, pk, hidden in rows
            if hidden != 1
        )
        indexed = {row[0] for row in self._connection.execute(_INDEXED, {"name": name})}
        key = tuple(column for _, column in keyed) or (self._unique(name, columns) if what == "table" else ())
        estimate = None
        if (
            what == "table"
            and "WITHOUT ROWID" not in (text or "").upper()
            and not (text or "").upper().startswith("CREATE VIRTUAL")
        ):
            found = self._connection.execute(f"select max(rowid) from {self.quote(name)}").fetchone()
            estimate = found[0] or 0
        if len(key) == 1:
            indexed |= set(key)
        return Table("", name, "view" if what == "view" else "table", columns, key, estimate, frozenset(indexed))

    def _unique(self, name: str, columns: tuple[Column, ...]) -> tuple[str, ...]:
        """The columns of a unique index that are never null, where there is no primary key."""
        indexes: dict[str, list[str | None]] = {}
        for index, column in self._connection.execute(_UNIQUE, {"name": name}):
            indexes.setdefault(index, []).append(column)
        sure = {column.name for column in columns if not column.nullable}
        for members in indexes.values():
            named = tuple(member for member in members if member is not None)
            if len(named) == len(members) and set(named) <= sure:
                return named
        return ()

    def _is_over(self) -> int:
        return int(self._stop.is_set() or time.monotonic() > self._deadline)

    @contextmanager
    def _translated(self, doing: str) -> Iterator[None]:
        try:
            yield
        except (sqlite3.Error, OverflowError) as error:
            words, name = str(error), getattr(error, "sqlite_errorname", "")
            if self._stop.is_set():
                raise RunCancelled(doing, str(self.path), found="the run was cancelled; what was committed stays") from error
            if name == "SQLITE_INTERRUPT":
                raise self.errors.timed_out(doing, f"no row for {self._timeout:g} s") from error
            if name in ("SQLITE_BUSY", "SQLITE_LOCKED"):
                raise self.errors.locked(doing, words) from error
            if name == "SQLITE_READONLY_ROLLBACK":
                words = (
                    "a program that wrote to it was killed, and its unfinished transaction is "
                    f"not rolled back yet ({self.path.name}-journal)"
                )
                fix = "open it once with the program that owns it; here it is only read"
                raise self.errors.failed(doing, words, fix) from error
            if name in ("SQLITE_CANTOPEN", "SQLITE_NOTADB", "SQLITE_CORRUPT", "SQLITE_PERM", "SQLITE_AUTH"):
                fix = "check that `path` names a SQLite database that the service may read"
                raise self.errors.failed(doing, words, fix) from error
            raise self.errors.failed(doing, words) from error


def _as_stored(sample: Any, value: datetime, zone: ZoneInfo) -> str:
    """A time in the format of a column, without what follows the seconds: it sorts before all texts of that second."""
    text = str(sample)
    local = value if text.endswith(("Z", "+00:00", "+0000", "+00")) else value.astimezone(zone)
    if len(text) == 10:
        return local.strftime("%Y-%m-%d")
    return local.strftime("%Y-%m-%dT%H:%M:%S" if "T" in text else "%Y-%m-%d %H:%M:%S")


def _bindable(values: dict[str, Any]) -> dict[str, Any]:
    """Times as SQLite's own functions write them; sqlite3 only binds names that the statement contains."""
    return {name: v.strftime("%Y-%m-%d %H:%M:%S.%f") if isinstance(v, datetime) else v for name, v in values.items()}


def open_from(source: SqliteSourceDefinition, password: str | None, places: Places, stop: threading.Event) -> SqliteSource:
    """See `sources.sql.open.open_database`."""
    return SqliteSource(places.file(source.path), source.time_zone, source.statement_timeout, stop)
