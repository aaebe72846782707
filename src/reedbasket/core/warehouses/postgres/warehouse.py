"""A schema of a PostgreSQL database as a warehouse."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import psycopg
from psycopg import sql as pg
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...postgres import Address, server_message
from ...records.value_limits import ValueLimits
from ..loader.load import EngineLoad
from ..loading import LoadTarget
from ..reader import Ask, WarehouseReader, quoted
from ..warehouse import QueryResult, TableState
from .check import check
from .connect import connect_reader, translated
from .definition import PostgresWarehouseDefinition
from .engine import PostgresEngine
from .shadow_table import PostgresShadowBuild

_COLUMNS = """
select a.attname::text, format_type(a.atttypid, a.atttypmod) from pg_attribute a
join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace
where n.nspname = ? and c.relname = ? and a.attnum > 0 and not a.attisdropped
and c.relkind in ('r', 'p', 'v', 'm', 'f') order by a.attnum"""


class PostgresWarehouse(WarehouseReader):
    """See warehouses.warehouse.Warehouse. There is one connection for loading and one for reading, each opened when first needed."""

    value_limits = ValueLimits(nul_in_text=False)
    limits = PostgresEngine.limits

    _latest_row = "ctid desc"
    _names = """select tablename::text from pg_tables
        where schemaname = ? and not starts_with(tablename::text, '_rb_') order by 1"""

    def __init__(self, definition: PostgresWarehouseDefinition, password: str | None, places: Places) -> None:
        self._address = Address(definition, definition.schema_, password, places)
        self._engine: PostgresEngine | None = None
        self._reader: psycopg.Connection[Any] | None = None

    def __repr__(self) -> str:
        return f"PostgresWarehouse({self._address})"

    def _connection(self) -> psycopg.Connection[Any]:
        if self._reader is None or self._reader.closed:
            self._reader = connect_reader(self._address)
        return self._reader

    @contextmanager
    def _reading(self) -> Iterator[Ask]:
        with translated("reading the state in", self._address):
            connection = self._connection()
            yield lambda sql, values: connection.execute(sql.replace("?", "%s").encode(), tuple(values)).fetchall()

    def _columns(self, query: Ask, table: str) -> dict[str, str] | None:
        found: list[Any] = query(_COLUMNS, (self._address.schema, table))
        return dict(found) if found else None

    def _named(self, table: str) -> str:
        return f"{quoted(self._address.schema)}.{quoted(table)}"

    @property
    def _where(self) -> Sequence[Any]:
        return (self._address.schema,)

    @property
    def _called(self) -> str:
        return str(self._address)

    @override
    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        listed = ", ".join(map(quoted, columns))
        only = f' where "{current}" is null' if current else ""
        with translated("reading the keys of", self._address):
            connection = self._connection()
            with connection.transaction(), connection.cursor(name="rb_keys") as cursor:
                cursor.execute(f"select {listed} from {self._named(table)}{only}".encode())
                while rows := cursor.fetchmany(50_000):
                    yield rows

    @override
    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loader()
        return EngineLoad(engine, target, state, lambda: PostgresShadowBuild(engine, target.feed, target.source_table))

    def _loader(self) -> PostgresEngine:
        if self._engine is None:
            self._engine = PostgresEngine(self._address)
        return self._engine

    @override
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
            raise self._refused(f"it took more than {seconds:g} s", "narrow the query, or ask the server yourself") from error
        except psycopg.Error as error:
            raise self._refused(
                server_message(error), "fix the statement; only a single query is allowed, and it may not write"
            ) from error
        return QueryResult(columns, rows[:limit], len(rows) > limit, time.monotonic() - began)

    @override
    def check(self) -> list[CheckStep]:
        return check(self._address)

    @override
    def close(self) -> None:
        if self._engine is not None:
            self._engine.close()
        if self._reader is not None:
            self._reader.close()
        self._engine = self._reader = None


def open_from(definition: PostgresWarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> PostgresWarehouse:
    """See `warehouses.open.open_warehouse`."""
    return PostgresWarehouse(definition, reveal(definition.password.secret) if definition.password else None, places)
