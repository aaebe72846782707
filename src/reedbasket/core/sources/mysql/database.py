"""Reading MySQL and MariaDB from the wire in columns, all tables of a run in one snapshot."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import pymysql
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import ReedError, RunCancelled
from ...mysql import rows, thread_of
from ...records.column_types import Kind
from ...wording import many, size
from ..sql.bound_values import replaced
from ..sql.changelog import ChangeLog, LogName
from ..sql.database import Database, DatabaseErrors, typed
from ..sql.tables import Column, Statement, Table
from .catalog import read_tables
from .connect import MysqlAddress, told
from .definition import MysqlSourceDefinition
from .log import MariaLog, require_log, snapshot_gtid
from .types import column_of_field
from .values import to_column
from .wire import columns_of

_LOWEST: dict[Kind, Any] = {
    "timestamp": "0001-01-01 00:00:00", "date": "0001-01-01", "text": "", "int64": -(2**63), "double": -1.7e308,
    "decimal": Decimal(-(10**30)),
}  # fmt: skip


class MysqlSource(Database):
    """See Database. The snapshot belongs to one connection, which reads one statement after the other; only InnoDB has it."""

    as_text = "cast({} as char)"

    def __init__(self, address: MysqlAddress, zone: str, timeout: timedelta, stop: threading.Event) -> None:
        self.address = address
        self._zone = zone
        self._timeout = timeout
        self._stop = stop
        self.errors = DatabaseErrors(str(address))
        with self.translated("opening the source"):
            self._keeper = address.connect(timeout)
            self.side = address.connect(timeout)
            self._begin()

    def _begin(self) -> None:
        with self._keeper.cursor() as cursor:
            cursor.execute("set session transaction isolation level repeatable read")
            cursor.execute("start transaction with consistent snapshot")

    @override
    def share_of(self, many: str, count: int) -> str:
        return f"greatest(floor({many} / {count}), 1)"

    @override
    def tables(self) -> list[Table]:
        with self.translated("reading the catalog of"):
            return read_tables(self.side)

    @override
    def describe(self, query: str, values: dict[str, Any]) -> Table:
        with self.translated("describing a query, at"):
            fields, batches = columns_of(self.side, f"select * from ({self._rendered(query, values)}\n) as q limit 0")
            list(batches)
        columns = [column_of_field(f.name, f.type_code, f.flags, f.charsetnr, f.length, f.scale) for f in fields]
        return Table("", "", "query", tuple(columns))

    @override
    def read(self, statement: Statement) -> Iterator[pa.Table]:
        with self.translated("reading from"):
            _, batches = columns_of(self._keeper, self._rendered(statement.text, dict(statement.values)))
            done = threading.Event()
            threading.Thread(target=self._kill_when_stopped, args=(done,), daemon=True).start()
            ended = False
            try:
                for values in batches:
                    made = [to_column(c, v, self._zone) for c, v in zip(statement.columns, values)]
                    yield typed(made, len(values[0]) if values else 0)
                ended = True
            except pymysql.Error:
                ended = True
                raise
            finally:
                done.set()
                if not ended:
                    self._give_up(batches)

    @override
    def quote(self, name: str) -> str:
        return "`" + name.replace("`", "``") + "`"

    @override
    def bound(self, table: str, column: Column, value: Any) -> Any:
        if not isinstance(value, datetime):
            return value
        zone = ZoneInfo(self._zone if column.declared.startswith("datetime") or column.kind == "date" else "UTC")
        local = value.astimezone(zone).replace(tzinfo=None)
        return local.date() if column.kind == "date" else local

    @override
    def lowest(self, kind: Kind) -> Any:
        return _LOWEST.get(kind, "")

    @override
    def change_log(self, name: LogName, *, utc: bool) -> ChangeLog:
        return MariaLog(self, self._zone)

    @override
    def check_logs(self, logs: Mapping[LogName, Sequence[Table]]) -> Iterator[CheckStep]:
        if not logs:
            return
        tables = sum(map(len, logs.values()))
        try:
            with self.translated("checking the change log of"):
                require_log(self.side, str(self.address))
                ((position,),) = rows(self.side, "select @@global.gtid_binlog_pos")
                files = rows(self.side, "show binary logs")
                held = sum(int(row[1]) for row in files)
        except ReedError as error:
            yield CheckStep("log", False, error.found, error.fix)
            return
        yield CheckStep(
            "log",
            True,
            f"{many(tables, 'table')} of feeds here; it stands at {position}, {many(len(files), 'file')} of {size(held)} are kept",
        )

    def snapshot_position(self) -> str:
        """The snapshot's position in the log; '' at its very beginning."""
        with self.translated("asking for the position of the change log, at"):
            return snapshot_gtid(self._keeper, self.side)

    def require_not_stopped(self, doing: str) -> None:
        """Check whether the read goes on.

        Raises:
            RunCancelled: it was stopped.
        """
        if self._stop.is_set():
            raise RunCancelled(doing, str(self.address), found="the run was cancelled; what was committed stays")

    @override
    def close(self) -> None:
        for connection in (self._keeper, self.side):
            with suppress(Exception):
                connection.close()

    def _rendered(self, text: str, values: dict[str, Any]) -> str:
        """The driver writes each value as a literal; the fast way of reading knows no other."""
        self.errors.require_known(text, values)

        def literal(name: str) -> str:
            value = values[name]
            if isinstance(value, datetime) and value.tzinfo is not None:
                value = value.astimezone(ZoneInfo("UTC")).replace(tzinfo=None)
            return str(self.side.escape(value))

        return replaced(text, literal)

    def _give_up(self, batches: Iterator[Any]) -> None:
        """End a statement whose remaining rows are not needed; the snapshot stays."""
        with suppress(pymysql.Error, OSError):
            rows(self.side, f"kill query {thread_of(self._keeper)}")
            for _ in batches:
                pass

    def _kill_when_stopped(self, done: threading.Event) -> None:
        while not done.wait(0.2):
            if self._stop.is_set():
                with suppress(Exception), closing(self.address.connect()) as connection:
                    rows(connection, f"kill query {thread_of(self._keeper)}")
                return

    @contextmanager
    def translated(self, doing: str) -> Iterator[None]:
        """Translate the driver's errors into SourceError."""
        try:
            yield
        except (ReedError, GeneratorExit):
            raise
        except (pymysql.Error, OSError, pa.ArrowException, RuntimeError) as error:
            if self._stop.is_set():
                raise RunCancelled(
                    doing, str(self.address), found="the run was cancelled; what was committed stays"
                ) from error  # fmt: skip
            raise told(error, doing, self.errors) from error


def open_from(source: MysqlSourceDefinition, password: str | None, places: Places, stop: threading.Event) -> MysqlSource:
    """See `sources.sql.open.open_database`."""
    return MysqlSource(MysqlAddress(source, password, places), source.time_zone, source.statement_timeout, stop)
