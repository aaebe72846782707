"""A SQLite file as a warehouse."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import orjson
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import WarehouseError
from ...records.value_limits import ValueLimits
from ..loader.load import EngineLoad
from ..loading import LoadTarget
from ..reader import Ask, WarehouseReader, nothing_loaded, quoted
from ..warehouse import QueryResult, TableState
from .connect import BUSY_SECONDS, connect_reader, connect_writer, translated
from .definition import SqliteWarehouseDefinition
from .engine import SqliteEngine
from .shadow_table import SqliteShadowBuild

# How often SQLite looks at the clock during a query, in its own virtual instructions; 1,000 cost under 1%.
_INSTRUCTIONS_PER_LOOK = 1_000


class SqliteWarehouse(WarehouseReader):
    """See warehouses.warehouse.Warehouse. The writing connection is opened at the first load; reading never creates a file."""

    value_limits = ValueLimits()
    limits = SqliteEngine.limits

    _latest_row = "_rowid_ desc"
    _names = """select name from sqlite_master
        where type = 'table' and name not like 'sqlite#_%' escape '#' and name not like '#_rb#_%' escape '#' order by name"""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._writer: sqlite3.Connection | None = None
        self._reader: sqlite3.Connection | None = None

    def __repr__(self) -> str:
        return f"SqliteWarehouse({self.path})"

    @override
    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        connection = self._open_reader()
        assert connection is not None
        only = f" where {quoted(current)} is null" if current else ""
        with translated("reading the keys of", self.path):
            found = connection.execute(f"select {', '.join(map(quoted, columns))} from {quoted(table)}{only}")
            while rows := found.fetchmany(50_000):
                yield rows

    @override
    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loader()
        return EngineLoad(engine, target, state, lambda: SqliteShadowBuild(engine, target.feed, target.source_table))

    def _loader(self) -> SqliteEngine:
        return SqliteEngine(self._open_writer(), self.path)

    @override
    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        connection = self._open_reader()
        if connection is None:
            raise nothing_loaded(self.path.name)
        began = time.monotonic()
        connection.set_progress_handler(lambda: time.monotonic() - began > seconds, _INSTRUCTIONS_PER_LOOK)
        try:
            cursor = connection.execute(sql)
            if cursor.description is None:
                raise self._refused("it returns no rows; only queries are allowed", "write a select")
            rows = cursor.fetchmany(limit + 1)
            columns = [(d[0], "") for d in cursor.description]
            cursor.close()
        except sqlite3.Error as error:
            name = getattr(error, "sqlite_errorname", "")
            if name == "SQLITE_INTERRUPT":
                raise self._refused(
                    f"it took more than {seconds:g} s", "narrow the query, or open the file yourself"
                ) from error
            if name in ("SQLITE_READONLY", "SQLITE_AUTH"):
                raise self._refused(
                    "it would write, or reach outside this warehouse", "the warehouse can only be read here; write a select"
                ) from error
            raise self._refused(str(error), "fix the statement") from error
        except sqlite3.Warning as error:  # several statements at once
            raise self._refused(str(error), "send one statement") from error
        finally:
            connection.set_progress_handler(None, 0)
        return QueryResult(columns, rows[:limit], len(rows) > limit, time.monotonic() - began)

    @contextmanager
    def _reading(self) -> Iterator[Ask]:
        connection = self._open_reader()
        if connection is None:
            yield lambda sql, values: []
            return
        with translated("reading the state in", self.path):
            yield lambda sql, values: connection.execute(sql, values).fetchall()

    def _many(self, query: Ask, columns: Sequence[str], rest: str, values: Sequence[Any]) -> Iterable[tuple[Any, ...]]:
        # Column by column as one text each: a third of what fetching the rows takes.
        gathered = ", ".join(f"json_group_array({quoted(name)})" for name in columns)
        found = query(f"select {gathered} {rest}", values)
        return zip(*map(orjson.loads, found[0])) if found else ()

    def _columns(self, query: Ask, table: str) -> dict[str, str] | None:
        found: list[Any] = query("select name, type from pragma_table_info(?)", (table,))
        return dict(found) if found else None

    @property
    def _called(self) -> str:
        return self.path.name

    @override
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
            steps.append(CheckStep("file", True, f"{self.path} will be created by the first load"))
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
                return [*steps, CheckStep(step, False, error.found, error.fix)]
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

    @override
    def close(self) -> None:
        for connection in (self._reader, self._writer):
            if connection is not None:
                connection.close()
        self._reader = self._writer = None


def open_from(definition: SqliteWarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> SqliteWarehouse:
    """See `warehouses.open.open_warehouse`."""
    return SqliteWarehouse(places.warehouse(definition.path))
