"""A toy warehouse whose statements that change tables commit by themselves: one module, known by an entry point alone.

It keeps its tables in a SQLite file, and lets no such statement into a transaction, as a server would commit what was begun. `Dike.dies_at`
ends it before a statement, as a kill of its process would.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal

from typing_extensions import override

from reedbasket.core.allowed_paths import Places
from reedbasket.core.kinds import WarehouseKind
from reedbasket.core.records.column_types import Kind
from reedbasket.core.records.structure import ColumnShape
from reedbasket.core.shaping.batch import TableBatch
from reedbasket.core.spec.warehouse import FileWarehouse
from reedbasket.core.warehouses import LoadTarget, TableState
from reedbasket.core.warehouses.engine import transaction
from reedbasket.core.warehouses.loader.load import EngineLoad
from reedbasket.core.warehouses.loader.shadow_table import PlainShadowBuild
from reedbasket.core.warehouses.merge import Stamp
from reedbasket.core.warehouses.sqlite.engine import SqliteEngine
from reedbasket.core.warehouses.sqlite.warehouse import SqliteWarehouse

# Not of temp tables, which end with the connection.
_CHANGES_TABLES = re.compile(r"\s*(create|alter|drop)\s(?!.{0,40}\btemp\b)", re.IGNORECASE)


class ToyDefinition(FileWarehouse):
    """path: the file."""

    type: Literal["dike"]


class Killed(BaseException):
    """The process is no more."""


class DikeEngine(SqliteEngine):
    """SQLite's words, with the manners of a server that commits at every change of a table."""

    ddl_commits = True
    # Statements until it is killed; None for never.
    dies_at: int | None = None

    def __init__(self, connection: sqlite3.Connection, path: Path) -> None:
        super().__init__(connection, path)
        self._whole = False

    def _step(self) -> None:
        if self.dies_at is not None and not self._whole:
            DikeEngine.dies_at = self.dies_at - 1
            if self.dies_at < 0:
                self.connection.close()
                raise Killed

    @contextmanager
    def _as_a_whole(self) -> Iterator[None]:
        """What such a server does in one statement."""
        self._step()
        self._whole = True
        try:
            with transaction(self):
                yield
        finally:
            self._whole = False

    @override
    def begin(self) -> None:
        self._step()
        super().begin()

    @override
    def commit(self) -> None:
        self._step()
        super().commit()

    @override
    def rollback(self) -> None:
        if self.dies_at is None or self.dies_at >= 0:
            super().rollback()

    @override
    def run(self, sql: str) -> int:
        self._step()
        if _CHANGES_TABLES.match(sql) and not self._whole:
            assert not self.connection.in_transaction, f"would commit what was begun: {sql}"
        return super().run(sql)

    @override
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        self._step()
        super().execute(sql, values)

    @override
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch, stamp: Stamp | None = None) -> None:
        self._step()
        super().insert(sql_name, columns, batch, stamp)

    @override
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        if temp:
            super().widen(table, columns, temp=True)
            return
        with self._as_a_whole():
            super().widen(table, columns)

    @override
    def exchange(self, tables: Mapping[str, str]) -> None:
        with self._as_a_whole():
            super().exchange(tables)
            for table, built_in in tables.items():
                self._rename_key(table, built_in)

    def _rename_key(self, table: str, built_in: str) -> None:
        name = f"{built_in}_key"
        for (sql,) in self.query("select sql from main.sqlite_master where type = 'index' and name = ?", (name,)):
            self.run(f"drop index main.{self.quote(name)}")
            self.run(
                sql.replace(self.quote(name), self.quote(f"{table}_key"), 1).replace(self.quote(built_in), self.quote(table))
            )

    @override
    def next_loads(self, count: int) -> list[int]:
        # Kept as the file's own number: an id that was reserved is nobody else's, whether its load takes place or not.
        first = int(self.query("pragma user_version")[0][0]) + 1
        self.run(f"pragma user_version = {first + count - 1}")
        return list(range(first, first + count))


class DikeWarehouse(SqliteWarehouse):
    """See `warehouses.warehouse.Warehouse`."""

    _ddl_commits = True

    @override
    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loader()
        return EngineLoad(engine, target, state, lambda: PlainShadowBuild(engine, target.feed, target.source_table))

    @override
    def _loader(self) -> SqliteEngine:
        return DikeEngine(self._open_writer(), self.path)


def open_from(definition: ToyDefinition, places: Places, reveal: Callable[[str], str]) -> DikeWarehouse:
    """See `warehouses.open.open_warehouse`."""
    return DikeWarehouse(places.warehouse(definition.path))


KIND = WarehouseKind("a dike", ToyDefinition, __name__)
