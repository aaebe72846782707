"""A DuckDB file as a warehouse."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import duckdb

from ...errors import NotFound, QueryRefused, WarehouseError
from ..ledger import LedgerLine
from ..load import EngineLoad
from ..service_tables import read_hashes, read_ledger, read_state
from ..warehouse import CheckStep, LoadTarget, QueryResult, TableInfo, TableState
from .beside import DuckBeside
from .connect import connect_reader, translated
from .engine import DuckEngine

_READABLE = (duckdb.StatementType.SELECT, duckdb.StatementType.EXPLAIN)


class DuckWarehouse:
    """See load.warehouse.Warehouse. The file is open for each answer, and for each commit; never in between."""

    nul_in_text = True

    def __init__(self, path: Path) -> None:
        self.path = path
        self._engine: DuckEngine | None = None

    def __repr__(self) -> str:
        return f"DuckWarehouse({self.path})"

    @property
    def _folder(self) -> Path:
        return self.path.parent / f".{self.path.name}.beside"

    def state(self, feed: str, source_table: str) -> TableState | None:
        if not self.path.exists():
            return None
        engine, table = self._loading(), "_rb_cursor"
        with engine.translated("reading the state in"), engine.reading():
            columns = engine.columns(table)
            return read_state(engine.ask, engine.table(table), columns, feed, source_table) if columns else None

    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        with self._reading() as ask:
            return read_hashes(ask, "_rb_hash", feed, source_table, version) if _columns(ask, "_rb_hash") else None

    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        only = f' where "{current}" is null' if current else ""
        listed = ", ".join(map(_quote, columns))
        connection = connect_reader(self.path)
        try:
            for batch in connection.sql(f"select {listed} from {_quote(table)}{only}").to_arrow_reader(50_000):
                yield list(zip(*(column.to_pylist() for column in batch.columns)))
        finally:
            connection.close()

    def owner(self, table: str) -> tuple[str, str] | None:
        with self._reading() as ask:
            if not _columns(ask, "_rb_cursor"):
                return None
            rows = ask('select feed, source_table from _rb_cursor where "table" = ?', (table,))
            return (rows[0][0], rows[0][1]) if rows else None

    def existing(self, table: str) -> dict[str, str] | None:
        with self._reading() as ask:
            return _columns(ask, table)

    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loading()
        return EngineLoad(engine, target, state, lambda: DuckBeside(engine, self._folder, target.feed, target.source_table))

    def _loading(self) -> DuckEngine:
        if self._engine is None:
            self._engine = DuckEngine(self.path, self._folder)
        return self._engine

    def tables(self) -> list[TableInfo]:
        with self._reading() as ask:
            names = ask(
                """select table_name from duckdb_tables() where database_name = current_database()
                   and not starts_with(table_name, '_rb_') order by 1""",
                (),
            )
            latest: dict[str, tuple[str, int, str]] = {}
            if _columns(ask, "_rb_ledger"):
                for table, feed, load, ended in ask(
                    'select "table", arg_max(feed, load), max(load), max(ended) from _rb_ledger group by "table"', ()
                ):
                    latest[table] = (feed, load, ended)
            found = []
            for (name,) in names:
                columns = list((_columns(ask, name) or {}).items())
                count = ask(f"select count(*) from {_quote(name)}", ())[0][0]
                found.append(TableInfo(name, columns, count, *latest.get(name, (None, None, None))))
            return found

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        with self._reading() as ask:
            columns = _columns(ask, "_rb_ledger")
            return read_ledger(ask, "_rb_ledger", columns, feed, after, limit) if columns else []

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        columns = self.existing(table)
        if not columns:
            raise _no_table(table, f"no such table in {self.path.name}")
        order = "order by _rb_load desc, rowid desc" if "_rb_load" in columns else ""
        shown = self.query(
            f"select * from {_quote(table)} {order} limit {int(limit) + 1} offset {int(offset)}", limit=limit, seconds=30.0
        )
        return QueryResult(list(columns.items()), shown.rows, shown.truncated, shown.seconds)

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        if not self.path.exists():
            raise NotFound(
                "asking the warehouse",
                self.path.name,
                found="nothing was loaded into it yet",
                mend="run a feed",
                code="warehouse.empty",
            )
        connection = connect_reader(self.path)
        began = time.monotonic()
        timer = threading.Timer(seconds, connection.interrupt)
        try:
            statements = connection.extract_statements(sql)
            if len(statements) != 1 or statements[0].type not in _READABLE:
                raise self._refused("only one query at a time is answered here, and it may not write", "write a select")
            timer.start()
            reader = connection.sql(sql).to_arrow_reader(limit + 1)
            rows: list[tuple[Any, ...]] = []
            names = reader.schema.names
            for batch in reader:
                columns = [column.to_pylist() for column in batch.columns]
                rows += zip(*columns)
                if len(rows) > limit:
                    break
        except duckdb.InterruptException as error:
            raise self._refused(f"it took more than {seconds:g} s", "narrow it, or open the file yourself") from error
        except duckdb.Error as error:
            raise self._refused(str(error).strip().splitlines()[0], "mend the statement") from error
        finally:
            timer.cancel()
            connection.close()
        columns_found = [(name, "") for name in names]
        return QueryResult(columns_found, rows[:limit], len(rows) > limit, time.monotonic() - began)

    def _refused(self, found: str, mend: str) -> QueryRefused:
        return QueryRefused("asking the warehouse", self.path.name, found=found, mend=mend)

    def check(self) -> list[CheckStep]:
        folder = self.path.absolute().parent
        while not folder.exists():
            folder = folder.parent
        able = os.access(folder, os.W_OK | os.X_OK)
        steps = [CheckStep("folder", able, str(folder), "" if able else f"let the service's user write to {folder}")]
        if not able:
            return [*steps, CheckStep("file", None), CheckStep("database", None)]
        if not self.path.exists():
            return [*steps, CheckStep("file", True, f"{self.path} will be made by the first load")]
        able = os.access(self.path, os.W_OK)
        steps.append(CheckStep("file", able, str(self.path), "" if able else f"let the service's user write to {self.path}"))
        if not able:
            return [*steps, CheckStep("database", None)]
        try:
            with translated("checking", self.path):
                duckdb.connect(str(self.path)).close()
            steps.append(CheckStep("database", True, f"DuckDB {duckdb.__version__}, opened for writing"))
        except WarehouseError as error:
            steps.append(CheckStep("database", False, error.found, error.mend))
        return steps

    @contextmanager
    def _reading(self) -> Iterator[Any]:
        """A way to ask; of a file that is not there, every answer is empty."""
        if not self.path.exists():
            yield lambda sql, values: []
            return
        with translated("reading", self.path):
            connection = connect_reader(self.path)
        try:

            def ask(sql: str, values: Sequence[Any]) -> list[tuple[Any, ...]]:
                with translated("reading the state in", self.path):
                    try:
                        return connection.execute(sql, list(values)).fetchall()
                    except duckdb.CatalogException as error:
                        raise _no_table(str(self.path), str(error).splitlines()[0]) from error

            yield ask
        finally:
            connection.close()

    def close(self) -> None:
        if self._engine is not None:
            self._engine.close()
            self._engine = None


def _no_table(what: str, found: str) -> NotFound:
    mend = "see which tables there are with `reed tables`, or run the feed that makes it"
    return NotFound("reading rows of", what, found=found, mend=mend, code="table.not_found")


def _columns(ask: Any, table: str) -> dict[str, str] | None:
    # In a database just opened, the catalogue's own tables take 40 ms to make; this takes one.
    try:
        return {row[0]: row[1] for row in ask(f"describe {_quote(table)}", ())} or None
    except NotFound:
        return None


def _quote(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
