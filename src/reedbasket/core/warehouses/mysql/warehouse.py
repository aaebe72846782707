"""A database of a MariaDB or MySQL server as a warehouse."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from datetime import UTC, datetime
from typing import Any

import pymysql
from pymysql.constants import ER
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...mysql import TIMED_OUT, Address, is_maria, parts, rows, thread_of
from ...records.value_limits import ValueLimits
from ..loader.load import EngineLoad
from ..loading import LoadTarget
from ..reader import Ask, WarehouseReader
from ..warehouse import QueryResult, TableState
from .check import check
from .connect import connect_reader, translated
from .definition import MysqlWarehouseDefinition
from .engine import MysqlEngine, catalogued
from .shadow_table import MysqlShadowBuild
from .types import RowLimits

_KEYS_AT_ONCE = 50_000
_INTERRUPTED = (ER.QUERY_INTERRUPTED, 3024, *TIMED_OUT)


class MysqlWarehouse(WarehouseReader):
    """See warehouses.warehouse.Warehouse. There is one connection for loading and one for reading, each opened when first needed; each
    query of a person has one of its own.
    """

    value_limits = ValueLimits(not_finite=False)

    _ddl_commits = True
    _latest_row = "_rb_row_number desc"
    _names = """select table_name from information_schema.tables
        where table_schema = database() and table_type = 'BASE TABLE' and left(table_name, 4) <> '_rb_' order by 1"""

    def __init__(self, definition: MysqlWarehouseDefinition, password: str | None, places: Places) -> None:
        self._address = Address(definition, password, places)
        self._engine: MysqlEngine | None = None
        self._reader: pymysql.Connection[Any] | None = None

    def __repr__(self) -> str:
        return f"MysqlWarehouse({self._address})"

    @contextmanager
    def _reading(self) -> Iterator[Ask]:
        with translated("reading the state in", self._address):
            if self._reader is None or not self._reader.open:
                self._reader = connect_reader(self._address)
            connection = self._reader
            yield lambda sql, values: rows(connection, sql.replace("?", "%s"), *values)

    def _columns(self, query: Ask, table: str) -> dict[str, str] | None:
        return catalogued(lambda sql, name: query(sql, (name,)), table)

    @property
    @override
    def limits(self) -> RowLimits:
        with self._reading() as query:
            return RowLimits.of_pages(int(query("select @@innodb_page_size", ())[0][0]))

    @property
    def _called(self) -> str:
        return str(self._address)

    @override
    def text_of(self, expression: str) -> str:
        return f"cast({expression} as char)"

    @override
    def quote(self, name: str) -> str:
        return "`" + name.replace("`", "``") + "`"

    def _named(self, table: str) -> str:
        return self.quote(table)

    @override
    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        listed = ", ".join(map(self.quote, columns))
        only = f" where {self.quote(current)} is null" if current else ""
        with (
            translated("reading the keys of", self._address),
            closing(connect_reader(self._address)) as connection,
            connection.cursor(pymysql.cursors.SSCursor) as cursor,
        ):
            cursor.execute(f"select {listed} from {self.quote(table)}{only}")
            while found := cursor.fetchmany(_KEYS_AT_ONCE):
                yield list(map(_in_utc, found))

    @override
    def begin(self, target: LoadTarget, state: TableState | None) -> EngineLoad:
        engine = self._loader()
        return EngineLoad(engine, target, state, lambda: MysqlShadowBuild(engine, target.feed, target.source_table))

    def _loader(self) -> MysqlEngine:
        if self._engine is None:
            self._engine = MysqlEngine(self._address)
        return self._engine

    @override
    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        connection = connect_reader(self._address)
        cursor = connection.cursor(pymysql.cursors.SSCursor)
        began = time.monotonic()
        # What the server's own limit leaves out: a hint in the statement can lift that.
        timer = threading.Timer(seconds, self._end_query, (thread_of(connection),))
        try:
            # What may stand in brackets is a query, and neither writes a file nor is it several statements.
            _require_query(connection, sql)
            rows(connection, "start transaction read only")
            timer.start()
            cursor.execute(sql)
            columns = [(str(described[0]), "") for described in cursor.description or ()]
            found = list(map(_in_utc, cursor.fetchmany(limit + 1)))
            if len(found) > limit:
                self._end_query(thread_of(connection))
        except (pymysql.Error, OSError, EOFError) as error:
            number, words = parts(error)
            if number in _INTERRUPTED or time.monotonic() - began >= seconds:
                raise self._refused(
                    f"it took more than {seconds:g} s", "narrow the query, or ask the server yourself"
                ) from error
            raise self._refused(words, "fix the statement; only a single query is allowed, and it may not write") from error
        finally:
            timer.cancel()
            with suppress(pymysql.Error, OSError, EOFError):
                cursor.close()  # takes the rows that are left; the server was told that nobody wants more
            connection.close()
        return QueryResult(columns, found[:limit], len(found) > limit, time.monotonic() - began)

    def _end_query(self, thread: int) -> None:
        with suppress(Exception), closing(connect_reader(self._address)) as connection:
            rows(connection, f"kill {'hard ' if is_maria(connection) else ''}query {thread}")

    @override
    def check(self) -> list[CheckStep]:
        return check(self._address)

    @override
    def close(self) -> None:
        if self._engine is not None:
            self._engine.close()
        if self._reader is not None:
            with suppress(pymysql.Error, OSError):
                self._reader.close()
        self._engine = self._reader = None


def _require_query(connection: pymysql.Connection[Any], sql: str) -> None:
    text = f"select 1 from ({sql.rstrip().rstrip(';')}\n) as rb_query"
    try:
        rows(connection, "prepare rb_query from %s", text)
    except pymysql.Error as error:
        if parts(error)[0] != ER.DUP_FIELDNAME:  # two columns of one name: in brackets only they are an error
            raise


def _in_utc(row: Sequence[Any]) -> tuple[Any, ...]:
    """Times as what they are: the loader's are in UTC."""
    return tuple(v.replace(tzinfo=UTC) if isinstance(v, datetime) else v for v in row)


def open_from(definition: MysqlWarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> MysqlWarehouse:
    """See `warehouses.open.open_warehouse`."""
    return MysqlWarehouse(definition, reveal(definition.password.secret) if definition.password else None, places)
