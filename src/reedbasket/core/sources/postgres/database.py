"""Reading PostgreSQL through ADBC in columns, all tables of a run in one snapshot."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from datetime import datetime, timedelta
from typing import Any

import adbc_driver_manager
import adbc_driver_postgresql.dbapi
import psycopg
import pyarrow as pa
from psycopg import sql
from typing_extensions import override

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import ReedError, RunCancelled
from ...postgres import Address, is_lost, server_message
from ...records.column_types import Kind
from ..sql.bound_values import replaced
from ..sql.changelog import ChangeLog, LogName
from ..sql.database import Database, DatabaseErrors
from ..sql.tables import Column, Statement, Table
from .catalog import column_of, read_tables, read_types
from .check import log_steps
from .columns import to_columns
from .definition import PostgresSourceDefinition
from .types import PgType

_LOCK_SECONDS = 30
# How libpq names an answer that is an error.
_ANSWERED = "PGRES_FATAL_ERROR"
# Rows are handed on in batches of about this many bytes; larger ones gain nothing and cost memory.
_BATCH_BYTES = 1024 * 1024
_LOWEST: dict[Kind, sql.SQL] = {
    "timestamp": sql.SQL("'-infinity'::timestamptz"), "date": sql.SQL("'-infinity'::date"), "text": sql.SQL("''"),
    "int64": sql.SQL("(-9223372036854775808)::int8"), "double": sql.SQL("'-infinity'::float8"),
    "decimal": sql.SQL("'-infinity'::float8"),
}  # fmt: skip
# A transaction's 32 bits, made 64 by how far behind the newest it stands; exact for the last 4 billion. Every row that a transaction
# wrote which had not ended when the last run looked is taken, so that nothing committed late is missed, and some come twice.
_CHANGED = "(:version_now - ((:version_now - xmin::text::int8) & 4294967295)) >= :version_from"
_LOG_END = (
    "select (case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_insert_lsn() end - '0/0')::int8"
)
_BLOCKS = "select pg_relation_size(%s::regclass) / current_setting('block_size')::int8"
# In the catalog as the snapshot sees it a table lies in another file than it does by now.
_REWRITTEN = """with recursive part(oid) as (
        select to_regclass(%s)::oid union select i.inhrelid from pg_inherits as i join part as p on i.inhparent = p.oid)
    select 1 from pg_class as c join part as p on c.oid = p.oid
    where c.relfilenode <> 0 and c.relfilenode <> coalesce(pg_relation_filenode(c.oid), 0) limit 1"""
# By the names they have had since PostgreSQL 8.3: the newer ones are there from 13 on.
_VERSIONS = "select txid_snapshot_xmax(s), txid_snapshot_xmin(s) from txid_current_snapshot() as s"


class PostgresSource(Database):
    """See Database. The snapshot is held by a transaction that stays open as long as the source."""

    as_text = "cast({} as text)"
    has_endless_times = True

    def __init__(self, address: Address, timeout: timedelta, stop: threading.Event) -> None:
        self.address = address
        self._stop = stop
        self.errors = DatabaseErrors(str(address))
        self._settings = (
            f"statement_timeout={int(timeout.total_seconds() * 1000)}",
            f"lock_timeout={_LOCK_SECONDS}s",
            "default_transaction_read_only=on",
            "intervalstyle=iso_8601",
            "extra_float_digits=1",
            "bytea_output=hex",
            "datestyle=ISO",
            # Rows come as they lie, and not from where another session's scan happens to be: their keys mostly grow then.
            "synchronize_seqscans=off",
        )
        self._snapshot: str | None = None
        with self.translated("opening the source"):
            self._keeper = psycopg.connect(address.conninfo(*self._settings, "idle_in_transaction_session_timeout=0"))
            self.renew()
            self._types = read_types(self._keeper)

    def renew(self) -> None:
        """Read another snapshot from here on. `opened_at` is its position in the log, or an earlier one."""
        self._keeper.rollback()
        self.opened_at = 0
        # Only who follows the log wants to know; a server that does not tell must not keep everybody else from reading.
        with suppress(psycopg.Error):
            row = self._keeper.execute(_LOG_END).fetchone()
            self.opened_at = row[0] if row is not None else 0
        self._keeper.rollback()
        self._keeper.execute("set transaction isolation level repeatable read read only")
        # The first of all statements fixes what is seen.
        row = self._keeper.execute("select pg_is_in_recovery()").fetchone()
        assert row is not None
        self._snapshot = None
        if not row[0]:
            exported = self._keeper.execute("select pg_export_snapshot()").fetchone()
            assert exported is not None
            self._snapshot = str(exported[0])

    @property
    @override
    def shares_snapshot(self) -> bool:
        return self._snapshot is not None

    @override
    def tables(self) -> list[Table]:
        with self.translated("reading the catalog of"):
            return read_tables(self._keeper, self._types)

    @override
    def describe(self, query: str, values: dict[str, Any]) -> Table:
        with self.translated("describing a query, at"), self._keeper.transaction():
            text = self._rendered(query, values)
            found = self._keeper.execute(sql.SQL("select * from ({}\n) as q limit 0").format(sql.SQL(text)))
            columns = [
                column_of(self._types, c.name, c.type_display, c.type_code, _modifier(found, place), True)
                for place, c in enumerate(found.description or [])
            ]
        return Table("", "", "query", tuple(columns))

    @override
    def read(self, statement: Statement) -> Iterator[pa.Table]:
        text = self._rendered(statement.text, dict(statement.values))
        for batch in self.batches(text, snapshot=self._snapshot):
            yield to_columns(statement.columns, batch)
        self.require_as_seen(statement.table)

    def batches(self, text: str, *settings: str, snapshot: str | None = None) -> Iterator[pa.RecordBatch]:
        """The rows of a statement, on a separate connection.

        Args:
            settings: for its session.
            snapshot: what it sees.
        """
        doing = "reading from"
        with self.translated(doing):
            connection = adbc_driver_postgresql.dbapi.connect(
                self.address.conninfo(*self._settings, *settings), autocommit=True
            )
        done = StatementEnd()
        try:
            with self.translated(doing), connection.cursor() as cursor:
                if snapshot is not None:
                    cursor.execute("begin isolation level repeatable read read only")
                    cursor.execute(sql.SQL("set transaction snapshot {}").format(snapshot).as_string(self._keeper))
                cursor.adbc_statement.set_options(**{"adbc.postgresql.batch_size_hint_bytes": str(_BATCH_BYTES)})
                done.cancel_when(self._stop, cursor.adbc_cancel)
                cursor.execute(text)
                reader = cursor.fetch_record_batch()
                while True:
                    try:
                        batch = reader.read_next_batch()
                    except StopIteration:
                        return
                    yield batch
        finally:
            done.set()
            with suppress(Exception):
                connection.close()

    def require_as_seen(self, table: str) -> None:
        """Check that a table was not truncated or rewritten behind the snapshot, in which it would look empty.

        Raises:
            SourceError: it was.
        """
        if table and self._snapshot is not None:
            with self.translated("checking whether a table was rewritten, at"):
                if self._keeper.execute(_REWRITTEN, (table,)).fetchone() is not None:
                    raise self.errors.rewritten(table)

    @override
    def hold(self, table: str) -> int:
        # Who truncates or rewrites a table does so for every snapshot.
        with self.translated("locking a table, at"), self._keeper.transaction():
            self._keeper.execute(sql.SQL("select from {} where false").format(sql.SQL(table)))
            row = self._keeper.execute(_BLOCKS, (table,)).fetchone()
        self.require_as_seen(table)
        return row[0] if row is not None else 0

    @override
    def quote(self, name: str) -> str:
        return sql.Identifier(name).as_string(self._keeper)

    @override
    def bound(self, table: str, column: Column, value: Any) -> Any:
        # A day compared with an instant would begin in the source's zone, and be too early or too late.
        return value.date() if column.kind == "date" and isinstance(value, datetime) else value

    @override
    def row_version(self) -> tuple[str, str]:
        with self.translated("asking for the latest row version, at"):
            row = self._keeper.execute(_VERSIONS).fetchone()
            assert row is not None
            return f"{row[1]}", replaced(_CHANGED, lambda name: str(row[0]) if name == "version_now" else f":{name}")

    @override
    def change_log(self, name: LogName, *, utc: bool) -> ChangeLog:
        from .log import PostgresLog  # with what it decodes by, which most runs have no use for

        return PostgresLog(self, name, utc)

    @override
    def lowest(self, kind: Kind) -> Any:
        return _LOWEST.get(kind, sql.SQL("''"))

    @override
    def close(self) -> None:
        with suppress(psycopg.Error):
            self._keeper.close()

    @override
    def check_logs(self, logs: Mapping[LogName, Sequence[Table]]) -> Iterator[CheckStep]:
        with self.translated("checking the change log of"), closing(self.connect()) as connection:
            yield from log_steps(connection, logs)

    # For the log

    def connect(self) -> psycopg.Connection[Any]:
        """A connection outside the snapshot."""
        return psycopg.connect(self.address.conninfo(*self._settings), autocommit=True)

    def quoted(self, table: Table) -> str:
        """A table as SQL."""
        return sql.Identifier(table.schema, table.name).as_string(self._keeper)

    def seen(self) -> tuple[str, int]:
        """(the transactions that the snapshot sees, as PostgreSQL writes them; a position in the log after all of them)."""
        with self.translated("asking for the position of the change log, at"):
            row = self._keeper.execute(
                "select txid_current_snapshot()::text, (pg_current_wal_insert_lsn() - '0/0')::int8"
            ).fetchone()
        assert row is not None
        return row[0], row[1]

    def column(self, name: str, oid: int, modifier: int) -> Column:
        """A column of a type, as `tables` would describe it."""
        self._require_type(oid)
        return column_of(self._types, name, "", oid, modifier, True)

    def base_type(self, oid: int) -> PgType:
        """The type that a domain is based on."""
        found = self._types[oid]
        while found.what == "d":
            found = self._types[found.base]
        return found

    def cast(self, expression: str, oid: int, modifier: int, text: pa.Array) -> pa.Array:
        """The results, as text, of an expression over {} for texts that are values of a type."""
        with self.translated("casting values of the change log, at"), self._keeper.transaction():
            row = self._keeper.execute("select format_type(%s::int8::oid, %s)", (oid, modifier)).fetchone()
            assert row is not None
            value = f"(u.v::{row[0]})"
            ask = sql.SQL("select ({})::text from unnest(%s::text[]) with ordinality as u(v, n) order by u.n").format(
                sql.SQL(expression.replace("{}", value))
            )
            found = self._keeper.execute(ask, (text.to_pylist(),)).fetchall()
        return pa.array([one for (one,) in found], pa.string())

    def _require_type(self, oid: int) -> None:
        if oid not in self._types:
            self._types = read_types(self._keeper)

    def _rendered(self, text: str, values: dict[str, Any]) -> str:
        """COPY, by which rows come in columns, takes no parameters: the driver writes each value as a literal."""
        self.errors.require_known(text, values)

        def literal(name: str) -> str:
            value = values[name]
            return (value if isinstance(value, sql.Composable) else sql.Literal(value)).as_string(self._keeper)

        return replaced(text, literal)

    @contextmanager
    def translated(self, doing: str) -> Iterator[None]:
        """Translate the drivers' errors into SourceError."""
        try:
            yield
        except (ReedError, GeneratorExit):
            raise
        except (adbc_driver_manager.Error, psycopg.Error, pa.ArrowException, OSError) as error:
            raise self._told(doing, error) from error

    def _cancelled(self, doing: str) -> RunCancelled:
        return RunCancelled(doing, str(self.address), found="the run was cancelled; what was committed stays")

    def _told(self, doing: str, error: Exception) -> ReedError:
        state, words, errors = getattr(error, "sqlstate", None) or "", server_message(error), self.errors
        if self._stop.is_set():
            return self._cancelled(doing)
        if state == "57014" or "statement timeout" in words:
            return errors.timed_out(doing, words)
        if state == "55P03":
            return errors.locked(doing, words)
        if state == "55006":
            return errors.log_in_use(doing, words)
        if state in ("42501", "28000", "28P01"):
            return errors.permission_denied(doing, words)
        # Of what went wrong between two rows the driver tells no code, but that the server said it.
        said_by_server = bool(state) or _ANSWERED in str(error)
        if is_lost(error) or isinstance(error, psycopg.OperationalError) or not said_by_server:
            return errors.unreachable(doing, words)
        return errors.failed(doing, words)


def _modifier(cursor: psycopg.Cursor[Any], place: int) -> int:
    assert cursor.pgresult is not None
    return cursor.pgresult.fmod(place)


class StatementEnd:
    """Whether a statement has ended. It is cancelled before its connection is closed, or not at all."""

    def __init__(self) -> None:
        self._done = threading.Event()
        self._lock = threading.Lock()

    def set(self) -> None:
        """The statement has ended: nobody cancels it from here on."""
        with self._lock:
            self._done.set()

    def cancel_when(self, stop: threading.Event, cancel: Callable[[], object]) -> None:
        """Cancel when `stop` is set: a separate thread looks every 0.2 s until the statement ends."""
        threading.Thread(target=self._watch, args=(stop, cancel), name="cancel", daemon=True).start()

    def _watch(self, stop: threading.Event, cancel: Callable[[], object]) -> None:
        while not self._done.wait(0.2):
            if stop.is_set():
                with self._lock, suppress(Exception):
                    if not self._done.is_set():
                        cancel()
                return


def open_from(source: PostgresSourceDefinition, password: str | None, places: Places, stop: threading.Event) -> PostgresSource:
    """See `sources.sql.open.open_database`."""
    address = Address(source, source.schema_, password, places, source.time_zone)
    return PostgresSource(address, source.statement_timeout, stop)
