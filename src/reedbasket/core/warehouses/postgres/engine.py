"""PostgreSQL as an engine of the loader."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime
from typing import Any

import adbc_driver_manager
import pyarrow as pa
from typing_extensions import override

from ...errors import ConnectionLost
from ...postgres import Address, is_lost
from ...records.arrow import loader_column, to_arrow
from ...records.column_types import Kind
from ...records.names import LONGEST_NAME_BYTES
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import Engine, utc
from ..limits import Limits
from ..merge import Merge
from ..widening import require_exact
from .connect import connect_writer, translated
from .copying import Rows, Sending
from .exchange import exchange
from .views import without_views

_DECLARED: dict[Kind, str] = {
    "bool": "boolean",
    "int64": "bigint",
    "double": "double precision",
    "decimal": "numeric",
    "text": "text",
    "date": "date",
    "timestamp": "timestamp with time zone",
    "json": "jsonb",
    "binary": "bytea",
    "uuid": "uuid",
}


class PostgresEngine(Engine):
    """PostgreSQL's SQL, on one connection; rows are loaded by COPY."""

    # https://www.postgresql.org/docs/current/limits.html; a row must also fit on a page of 8 kB.
    limits = Limits(columns=1_600)
    row_id = "ctid"
    blob = "bytea"
    types = _DECLARED

    def __init__(self, address: Address) -> None:
        self.address = address
        self._connection = connect_writer(address)
        self._cursor = self._connection.cursor()
        self._sending = Sending(self._copy)
        self._temps: set[str] = set()
        self._begun = False

    @contextmanager
    @override
    def translated(self, doing: str) -> Iterator[None]:
        with translated(doing, self.address):
            yield

    @override
    def begin(self) -> None:
        self.flush()
        self._cursor.execute("begin")
        self._begun = True

    @override
    def commit(self) -> None:
        self.flush()
        try:
            self._cursor.execute("commit")
        except adbc_driver_manager.Error as error:
            if is_lost(error):
                raise ConnectionLost(
                    "committing to",
                    str(self.address),
                    found="the connection was lost in the middle of the commit, and nothing was committed",
                    fix="check that the server is up, then run again",
                ) from error
            raise
        self._begun = False

    @override
    def abandon(self) -> None:
        self._sending.abandon()

    @override
    def rollback(self) -> None:
        self.abandon()
        if self._begun:
            with suppress(adbc_driver_manager.Error):
                self._cursor.execute("rollback")
            self._begun = False

    @override
    def run(self, sql: str) -> int:
        self.flush()
        self._cursor.execute(sql)
        count: int = self._cursor.rowcount
        return max(count, 0)

    @override
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        self.flush()
        self._cursor.execute(_numbered(sql), tuple(values))

    @override
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        self.flush()
        self._cursor.execute(_numbered(sql), tuple(values) or None)
        found: list[tuple[Any, ...]] = self._cursor.fetchall()
        return found

    @override
    def reconnect(self) -> None:
        self.close()
        self._connection = connect_writer(self.address)
        self._cursor = self._connection.cursor()
        self._sending = Sending(self._copy)
        self._temps.clear()
        self._begun = False

    def close(self) -> None:
        """Close the connection."""
        self._sending.close()
        with suppress(adbc_driver_manager.Error):
            self._cursor.close()
        with suppress(adbc_driver_manager.Error):
            self._connection.close()

    # Names and types

    @override
    def table(self, name: str) -> str:
        return f"{self.quote(self.address.schema)}.{self.quote(name)}"

    @override
    def time(self, moment: datetime) -> str:
        return f"timestamptz '{utc(moment).strftime('%Y-%m-%d %H:%M:%S.%f+00')}'"

    @override
    def sortable(self, expression: str, kind: Kind) -> str:
        return f'{expression} collate "C"' if kind == "text" else expression

    # Tables

    @override
    def columns(self, table: str) -> dict[str, str] | None:
        found: list[Any] = self.query(
            """select a.attname::text, format_type(a.atttypid, a.atttypmod) from pg_attribute a
               join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace
               where n.nspname = ? and c.relname = ? and a.attnum > 0 and not a.attisdropped
               and c.relkind in ('r', 'p', 'v', 'm', 'f') order by a.attnum""",
            (self.address.schema, table),
        )
        return dict(found) if found else None

    @override
    def is_table(self, table: str) -> bool:
        return bool(
            self.query(
                """select 1 from pg_class c join pg_namespace n on n.oid = c.relnamespace
                   where n.nspname = ? and c.relname = ? and c.relkind in ('r', 'p')""",
                (self.address.schema, table),
            )
        )

    @override
    def create_temp(self, name: str, columns: Sequence[ColumnShape], key: Sequence[str] = ()) -> None:
        # A stage left behind by an earlier load of this connection would be in the way.
        self.run(f"drop table if exists pg_temp.{name}")
        super().create_temp(name, columns, key)
        self._temps.add(name)

    @override
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        name = self.quote(table) if temp else self.table(table)
        require_exact(self, name, table, columns)
        actions = []
        for before, column in columns:
            quoted = self.quote(column.name)
            if before != column.kind:
                made = self.widened(quoted, before, column)
                actions.append(f"alter column {quoted} type {self.declared(column)} using {made}")
        if not actions:
            return
        statement = f"alter table {name} {', '.join(actions)}"
        if temp:
            self.run(statement)
        else:
            without_views(self, self.address.schema, table, statement)

    @override
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        value, after = expression, column.kind
        if before == "timestamp" and after in ("text", "json"):
            text = f"to_char({value} at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"')"
            value, before = f"regexp_replace({text}, '\\.000000Z$', 'Z')", "text"
        if before == "date" and after == "timestamp":
            return f"{value}::timestamp at time zone 'UTC'"
        if before == "double" and after == "decimal":
            return f"{value}::text::numeric"
        if before == "double" and after == "text":
            # The server writes 5 and 1e+15 where every other part of us writes 5.0 and 1000000000000000.0.
            whole = f"{value} = trunc({value}) and abs({value}) < 1e16"
            return f"case when {whole} then {value}::bigint::text || '.0' else {value}::text end"
        if after == "json":
            return f"to_jsonb({value})"
        return f"{value}::{_DECLARED[after]}"

    @override
    def exchange(self, tables: Mapping[str, str]) -> None:
        for table, built_in in tables.items():
            exchange(self, table, built_in, (self.key_name(table), self.key_name(built_in)))

    @override
    def add_constant(self, sql_name: str, column: ColumnShape, value: str) -> None:
        super().add_constant(sql_name, column, value)
        self.run(f"alter table {sql_name} alter column {self.quote(column.name)} drop default")

    def key_name(self, table: str) -> str:
        """The name of a table's key index, cut to the length that a name may have."""
        name = f"{table}_key"
        if len(name.encode()) <= LONGEST_NAME_BYTES:
            return name
        return f"{table.encode()[:48].decode('utf-8', 'ignore')}_{hashlib.sha256(table.encode()).hexdigest()[:8]}_key"

    @override
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False) -> None:
        only = " where _rb_valid_until is null" if current else ""
        name = self.quote(self.key_name(table))
        self.run(f"create unique index if not exists {name} on {self.table(table)} ({self.listed(key)}){only}")

    @override
    def drop_key(self, table: str) -> None:
        self.run(f"drop index if exists {self.table(self.key_name(table))}")

    # Rows

    @override
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch) -> None:
        self._sending.add(sql_name, _arrow(columns, batch))

    def flush(self) -> None:
        """Send what waits to be sent."""
        self._sending.flush()

    def _copy(self, sql_name: str, rows: Rows) -> None:
        temp = sql_name in self._temps
        plain = sql_name.rsplit('"', 2)[-2] if '"' in sql_name else sql_name
        schema = None if temp else self.address.schema
        self._cursor.adbc_ingest(plain, rows, mode="append", temporary=temp, db_schema_name=schema)

    @override
    def staged(self, name: str, key: Sequence[str]) -> None:
        # Only of the columns that are joined by: of all twelve it takes a tenth of the merge.
        self.run(f"analyze {name} ({self.listed(key)})")

    @override
    def empty(self, name: str) -> None:
        self.run(f"truncate {name}")

    @override
    def merge(self, merge: Merge) -> tuple[int, int]:
        stamp = merge.stamp
        assert stamp is not None
        rest = [n for n in merge.names if n not in merge.key]
        if merge.compared or merge.revive:
            sets = [f"{self.quote(c)} = excluded.{self.quote(c)}" for c in rest]
            sets += ["_rb_ledger_line = excluded._rb_ledger_line", "_rb_loaded_at = excluded._rb_loaded_at"]
            sets += ["_rb_deleted_at = null"] if merge.revive else []
            differs = self.differs(merge.compared, "t", "excluded") if merge.compared else "false"
            differs += " or t._rb_deleted_at is not null" if merge.revive else ""
            conflict = f"do update set {', '.join(sets)} where {differs}"
        else:
            conflict = "do nothing"
        # xmax is 0 in a row version that this statement inserted, and its own id in one that it updated.
        counts = self.query(
            f"""with done as (
                    insert into {merge.table} as t ({self.listed([*merge.names, "_rb_ledger_line", "_rb_loaded_at"])})
                    select {self.listed(merge.names, "s")}, {stamp.load}, {stamp.at} from {merge.stage} as s
                    on conflict ({self.listed(merge.key)}) {conflict} returning (t.xmax = 0) as fresh
                ) select count(*), count(*) filter (where fresh) from done"""
        )[0]
        return int(counts[1]), int(counts[0]) - int(counts[1])

    @override
    def add_versions(self, merge: Merge) -> tuple[int, int]:
        # Each staged row is looked up in the key's index once, whatever the planner knows of the table: the conflict ends the
        # current version in its place, and what was ended begins anew out of the stage.
        stamp = merge.stamp
        assert stamp is not None
        into = self.listed([*merge.names, "_rb_valid_from", "_rb_ledger_line", "_rb_loaded_at"])
        values = f"{self.listed(merge.names, 's')}, {stamp.at}, {stamp.load}, {stamp.at}"
        conflict = "do nothing"
        if merge.compared:
            conflict = f"do update set _rb_valid_until = {stamp.at} where {self.differs(merge.compared, 't', 'excluded')}"
        counts = self.query(
            f"""with done as (
                    insert into {merge.table} as t ({into}) select {values} from {merge.stage} as s
                    on conflict ({self.listed(merge.key)}) where _rb_valid_until is null {conflict}
                    returning (t.xmax = 0) as fresh, {self.listed(merge.key, "t")}
                ), again as (
                    insert into {merge.table} ({into})
                    select {values} from {merge.stage} as s join done as d on {self.matching(merge.key, "s", "d")}
                    where not d.fresh returning 1
                ) select (select count(*) from done where fresh), (select count(*) from again)"""
        )[0]
        return int(counts[0]), int(counts[1])

    @override
    def delete_matching(self, table: str, temp: str, key: Sequence[str], also: str = "true") -> int:
        return self.run(f"delete from {table} as t using {temp} as g where {self.matching(key, 't', 'g')} and {also}")

    # Service tables

    @override
    def serialise(self, feed: str, source_table: str) -> None:
        schema = self.address.schema
        self.ensure_schema()
        if self.columns("_rb_ledger") is None:
            self._lock(schema)  # whoever comes first makes the service tables
        self._lock(f"{schema}.{feed}.{source_table}")

    def ensure_schema(self) -> None:
        """Create the schema of its tables if it does not exist."""
        schema = self.address.schema
        if not self.query("select 1 from pg_namespace where nspname = ?", (schema,)):
            self.run(f"create schema {self.quote(schema)}")

    def _lock(self, name: str) -> None:
        self.query("select pg_advisory_xact_lock(hashtextextended(?, 0))::text", (f"reed basket {name}",))

    @override
    def next_loads(self, count: int) -> list[int]:
        sequence = self.table("_rb_ledger_line")
        # Several feeds commit at once here, so the highest load of the ledger tells nothing.
        if not self.query("select 1 where to_regclass(?) is not null", (sequence,)):
            self.run(f"create sequence if not exists {sequence}")
        found = self.query(f"select nextval('{sequence}') from generate_series(1, {count})")
        return sorted(int(row[0]) for row in found)


def _numbered(sql: str) -> str:
    """`?` as PostgreSQL wants it, `$1`. Our own statements only: they have no `?` elsewhere."""
    numbers = iter(range(1, 1000))
    return re.sub(r"\?", lambda _: f"${next(numbers)}", sql)


def _arrow(columns: Sequence[ColumnShape], batch: TableBatch) -> pa.Table:
    """The batch in the exact types of the columns, as binary COPY needs it, without columns that it does not have."""
    own = batch.own
    made: dict[str, Any] = {}
    for column in columns:
        if column.name in own:
            values = own[column.name]
            if values is not None:
                made[column.name] = loader_column(column.kind, values)
        elif column.name in batch.columns:
            kind, data = batch.columns[column.name]
            array = to_arrow(column, kind, data)
            if column.kind == "json":
                array = _extension(pa.json_(pa.string()), array)
            elif column.kind == "uuid":
                # The binary form of a uuid is that of 16 bytes of bytea.
                hexes = [None if v is None else bytes.fromhex(v.replace("-", "")) for v in array.to_pylist()]
                array = pa.array(hexes, pa.binary())
            made[column.name] = array
    return pa.table(made)


def _extension(kind: Any, array: Any) -> Any:
    if isinstance(array, pa.ChunkedArray):
        return pa.chunked_array([pa.ExtensionArray.from_storage(kind, chunk) for chunk in array.chunks], kind)
    return pa.ExtensionArray.from_storage(kind, array)
