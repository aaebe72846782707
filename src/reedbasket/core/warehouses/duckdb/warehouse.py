"""A DuckDB file as a warehouse."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import WarehouseError
from ...records.value_limits import ValueLimits
from ..loader.load import EngineLoad
from ..loader.service_tables import read_state
from ..loading import LoadTarget
from ..reader import Ask, WarehouseReader, nothing_loaded, quoted
from ..warehouse import QueryResult, TableState
from .connect import connect_reader, translated
from .definition import DuckWarehouseDefinition
from .engine import DuckEngine
from .shadow_table import DuckShadowBuild

_READABLE = (duckdb.StatementType.SELECT, duckdb.StatementType.EXPLAIN)


class DuckWarehouse(WarehouseReader):
    """See warehouses.warehouse.Warehouse. The file is open during an answer or a commit, and never in between."""

    value_limits = ValueLimits()
    limits = DuckEngine.limits

    _latest_row = "rowid desc"
    _names = """select table_name from duckdb_tables()
        where database_name = current_database() and not starts_with(table_name, '_rb_') order by 1"""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._engine: DuckEngine | None = None

    def __repr__(self) -> str:
        return f"DuckWarehouse({self.path})"

    @property
    def _folder(self) -> Path:
        return self.path.parent / f".{self.path.name}.beside"

    @override
    def state(self, feed: str, source_table: str) -> TableState | None:
        self._none_kept = not self.path.exists()
        if self._none_kept:
            return None
        engine, table = self._loader(), "_rb_cursor"
        with engine.translated("reading the state in"), engine.reading():
            columns = engine.columns(table)
            self._none_kept = engine.columns("_rb_derived") is None
            return read_state(engine.query, engine.table(table), columns, feed, source_table) if columns else None

    @override
    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        only = f' where "{current}" is null' if current else ""
        listed = ", ".join(map(quoted, columns))
        connection = connect_reader(self.path)
        try:
            for batch in connection.sql(f"select {listed} from {quoted(table)}{only}").to_arrow_reader(50_000):
                yield list(zip(*(column.to_pylist() for column in batch.columns)))
        finally:
            connection.close()

    @override
    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loader()
        return EngineLoad(
            engine, target, state, lambda: DuckShadowBuild(engine, self._folder, target.feed, target.source_table)
        )

    def _loader(self) -> DuckEngine:
        if self._engine is not None and self._engine.shut_in:
            self._engine.close()
            self._engine = None
        if self._engine is None:
            self._engine = DuckEngine(self.path, self._folder)
        return self._engine

    @override
    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        if not self.path.exists():
            raise nothing_loaded(self.path.name)
        connection = connect_reader(self.path)
        began = time.monotonic()
        timer = threading.Timer(seconds, connection.interrupt)
        try:
            statements = connection.extract_statements(sql)
            if len(statements) != 1 or statements[0].type not in _READABLE:
                raise self._refused("only a single query is allowed, and it may not write", "write a select")
            timer.start()
            reader = connection.sql(sql).to_arrow_reader(limit + 1)
            rows: list[tuple[Any, ...]] = []
            names = reader.schema.names
            for batch in reader:
                columns = [column.to_pylist() for column in batch.columns]
                rows += zip(*columns)
                if len(rows) > limit:
                    break
        except (duckdb.Error, pa.ArrowException, OSError) as error:  # what fails on the way comes as an error of the reader
            if time.monotonic() - began >= seconds:
                raise self._refused(
                    f"it took more than {seconds:g} s", "narrow the query, or open the file yourself"
                ) from error
            raise self._refused(str(error).strip().splitlines()[0], "fix the statement") from error
        finally:
            timer.cancel()
            connection.close()
        columns_found = [(name, "") for name in names]
        return QueryResult(columns_found, rows[:limit], len(rows) > limit, time.monotonic() - began)

    @override
    def check(self) -> list[CheckStep]:
        folder = self.path.absolute().parent
        while not folder.exists():
            folder = folder.parent
        able = os.access(folder, os.W_OK | os.X_OK)
        steps = [CheckStep("folder", able, str(folder), "" if able else f"let the service's user write to {folder}")]
        if not able:
            return [*steps, CheckStep("file", None), CheckStep("database", None)]
        if not self.path.exists():
            return [*steps, CheckStep("file", True, f"{self.path} will be created by the first load")]
        able = os.access(self.path, os.W_OK)
        steps.append(CheckStep("file", able, str(self.path), "" if able else f"let the service's user write to {self.path}"))
        if not able:
            return [*steps, CheckStep("database", None)]
        try:
            with translated("checking", self.path):
                duckdb.connect(str(self.path)).close()
            steps.append(CheckStep("database", True, f"DuckDB {duckdb.__version__}, opened for writing"))
        except WarehouseError as error:
            steps.append(CheckStep("database", False, error.found, error.fix))
        return steps

    @contextmanager
    def _reading(self) -> Iterator[Ask]:
        if not self.path.exists():
            yield lambda sql, values: []
            return
        engine = self._engine
        if engine is not None and not engine.attached and not engine.shut_in:
            with engine.translated("reading the state in"), engine.reading(), engine.in_default_schema():
                yield engine.query
            return
        with translated("reading the state in", self.path):
            connection = connect_reader(self.path)
            try:
                yield lambda sql, values: connection.execute(sql, list(values)).fetchall()
            finally:
                connection.close()

    def _columns(self, query: Ask, table: str) -> dict[str, str] | None:
        # In a database just opened, the catalogue's own tables take 40 ms to make; this takes one.
        try:
            return {row[0]: row[1] for row in query(f"describe {quoted(table)}", ())} or None
        except duckdb.CatalogException:
            return None

    @property
    def _called(self) -> str:
        return self.path.name

    @override
    def close(self) -> None:
        if self._engine is not None:
            self._engine.close()
            self._engine = None


def open_from(definition: DuckWarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> DuckWarehouse:
    """See `warehouses.open.open_warehouse`."""
    return DuckWarehouse(places.warehouse(definition.path))
