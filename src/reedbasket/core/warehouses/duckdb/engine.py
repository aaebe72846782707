"""DuckDB as an engine of the loader.

There are no keys and no indexes: with a primary key, merging into 2,000,000 rows takes nine times as long as deleting and inserting, and
the loader itself sees to it that keys are unique.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
from typing_extensions import override

from ...records.arrow import DIGITS_OF_128, loader_column, to_arrow
from ...records.column_types import Kind
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import Engine, utc
from ..limits import Limits
from ..merge import Merge
from ..widening import require_exact
from .connect import MEMORY_MB, attach, connect_scratch, translated

_DECLARED: dict[Kind, str] = {
    "bool": "BOOLEAN",
    "int64": "BIGINT",
    "double": "DOUBLE",
    "text": "VARCHAR",
    "date": "DATE",
    "timestamp": "TIMESTAMP WITH TIME ZONE",
    "json": "JSON",
    "binary": "BLOB",
    "uuid": "UUID",
}
_DECIMAL = re.compile(r"DECIMAL\(\d+,\d+\)")
# Rows handed over at once: small batches joined to 50,000 go in 1.13 times as fast.
_ROWS_AT_ONCE = 50_000
# An expression may nest this deep at most, and a chain of ORs nests; more columns are compared as one value.
_MOST_ORS = 400


class DuckEngine(Engine):
    """DuckDB's SQL. The file is open only during a transaction."""

    # DuckDB itself names no limit; wider tables than this are a mistake somewhere.
    limits = Limits(columns=5_000)
    row_id = "rowid"
    types = _DECLARED

    def __init__(self, path: Path, folder: Path) -> None:
        """Prepare; the file is not opened yet.

        Args:
            folder: where data that does not fit into memory is written.
        """
        self._path = path
        opening = ThreadPoolExecutor(1, thread_name_prefix="open duckdb")
        # It takes 30 ms, and a load that is built beside asks for it only in its commit.
        self._opened = opening.submit(connect_scratch, folder)
        opening.shutdown(wait=False)
        self.attached = self.shut_in = False
        self._memory = MEMORY_MB
        self._waiting: dict[str, list[pa.Table]] = {}

    @cached_property
    def connection(self) -> duckdb.DuckDBPyConnection:
        """The connection to an in-memory database, to which the file is attached when needed."""
        return self._opened.result()

    @contextmanager
    @override
    def translated(self, doing: str) -> Iterator[None]:
        with translated(doing, self._path):
            yield

    @override
    def begin(self) -> None:
        self._flush()
        attach(self.connection, self._path, to_write=True)
        self.attached = True
        # The commit goes straight into the file: the log beside it would be written only to be folded in when the file is
        # closed right after. Not while staging, where it would make every batch a checkpoint of the stage.
        self.connection.execute("set checkpoint_threshold = '100KB'")
        self.connection.execute("begin")

    @override
    def commit(self) -> None:
        self.connection.execute("commit")
        self._detach()

    @override
    def rollback(self) -> None:
        if self.attached:
            with suppress(duckdb.Error):
                self.connection.execute("rollback")
            self._detach()

    def _detach(self) -> None:
        self.connection.execute("use memory")
        self.connection.execute("detach w")
        self.connection.execute("reset checkpoint_threshold")
        # A load that failed in its midst may have left it.
        self.connection.execute("set preserve_insertion_order = true")
        self.attached = False

    @contextmanager
    def reading(self) -> Iterator[None]:
        """The file, open for queries outside a load. Attaching it here takes a tenth of the time of opening a new connection."""
        self._flush()
        attach(self.connection, self._path, to_write=False)
        try:
            yield
        finally:
            self.connection.execute("detach w")

    @override
    def run(self, sql: str) -> int:
        self._flush()
        row = self.connection.execute(sql).fetchone()
        return int(row[0]) if row and isinstance(row[0], int) else 0

    @override
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        self._flush()
        self.connection.execute(sql, list(values))

    @override
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        self._flush()
        return self.connection.execute(sql, list(values)).fetchall()

    # Names and types

    @override
    def table(self, name: str) -> str:
        return f"w.{self.quote(name)}"

    @override
    def declared(self, column: ColumnShape) -> str:
        if column.kind != "decimal":
            return super().declared(column)
        fits = column.whole + column.fraction <= DIGITS_OF_128
        return f"DECIMAL({DIGITS_OF_128},{column.fraction})" if fits else "VARCHAR"

    @override
    def kind_of(self, declared: str) -> Kind | None:
        return "decimal" if _DECIMAL.fullmatch(declared) else super().kind_of(declared)

    @override
    def time(self, moment: datetime) -> str:
        return f"timestamptz '{utc(moment).strftime('%Y-%m-%d %H:%M:%S.%f+00')}'"

    @override
    def differs(self, columns: Sequence[str], left: str, right: str) -> str:
        if len(columns) > _MOST_ORS:
            return super().differs(columns, left, right)
        # 1.3 times as fast as comparing rows as one value.
        return "(" + " or ".join(f"{left}.{self.quote(c)} is distinct from {right}.{self.quote(c)}" for c in columns) + ")"

    # Tables

    @override
    def create(self, sql_name: str, columns: Sequence[ColumnShape]) -> None:
        self._make_room(len(columns))
        super().create(sql_name, columns)

    @override
    def create_temp(self, name: str, columns: Sequence[ColumnShape], key: Sequence[str] = ()) -> None:
        self._make_room(len(columns))
        super().create_temp(name, columns, key)

    def _make_room(self, columns: int) -> None:
        """Each column takes a block while it is written: 1,600 columns do not fit into what is plenty for 100."""
        needed = MEMORY_MB + columns // 4
        if needed > self._memory + 25:
            self._memory = needed
            self.connection.execute(f"set memory_limit = '{needed}MB'")

    @override
    def columns(self, table: str) -> dict[str, str] | None:
        # Describing what is not there would end the transaction, and the catalogue's list of all columns is slow.
        there = self.query(
            """select 1 from duckdb_tables() where database_name = 'w' and table_name = ?
               union all select 1 from duckdb_views() where database_name = 'w' and view_name = ?""",
            (table, table),
        )
        return {row[0]: row[1] for row in self.query(f"describe {self.table(table)}")} if there else None

    @override
    def is_table(self, table: str) -> bool:
        return bool(self.query("select 1 from duckdb_tables() where database_name = 'w' and table_name = ?", (table,)))

    @override
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        name = self.quote(table) if temp else self.table(table)
        require_exact(self, name, table, columns)
        for before, column in columns:
            made = self.widened(self.quote(column.name), before, column)
            self.run(f"alter table {name} alter {self.quote(column.name)} set data type {self.declared(column)} using {made}")

    @override
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        value, after, declared = expression, column.kind, self.declared(column)
        if before == "timestamp" and after in ("text", "json"):
            text = f"strftime({value} at time zone 'UTC', '%Y-%m-%dT%H:%M:%S.%fZ')"
            value, before = f"regexp_replace({text}, '\\.000000Z$', 'Z')", "text"
        if before == "date" and after == "timestamp":
            return f"{value}::timestamp at time zone 'UTC'"
        if after == "json":
            return f"cast(cast({value} as varchar) as json)" if before == "decimal" else f"to_json({value})"
        if after == "decimal" and before in ("double", "decimal") and declared == "VARCHAR":
            text = f"cast({value} as varchar)"
            return f"case when contains({text}, '.') then rtrim(rtrim({text}, '0'), '.') else {text} end"
        return f"cast({value} as {declared})"

    @contextmanager
    @override
    def in_default_schema(self) -> Iterator[None]:
        self.connection.execute("use w")
        try:
            yield
        finally:
            # In a transaction that was broken off nothing can be said any more; its end does.
            with suppress(duckdb.TransactionException):
                self.connection.execute("use memory")

    @override
    def make(self, what: str, name: str, query: str) -> None:
        """Create the view or table. From here on this connection can open no other file, and is of no further use."""
        made = f"create {what} {self.quote(name)} as {query}"
        if len(self.connection.extract_statements(made)) != 1:
            raise duckdb.ParserException("there are several statements; write a single query")
        self.connection.execute("set enable_external_access = false")
        self.shut_in = True
        self.run(made)

    @override
    def index_files(self, table: str) -> None:
        """Does nothing: an index would not make it faster."""

    @override
    def exchange(self, tables: Mapping[str, str]) -> None:
        for table, built_in in tables.items():
            if self.columns(table) is not None:
                self.run(f"drop table {self.table(table)}")
            self.run(f"alter table {self.table(built_in)} rename to {self.quote(table)}")

    @override
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False) -> None:
        """Does nothing: there are no keys (see the module)."""

    @override
    def drop_key(self, table: str) -> None:
        """Does nothing: there are no keys."""

    # Rows

    @override
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch) -> None:
        waiting = self._waiting.setdefault(sql_name, [])
        waiting.append(self.arrow(columns, batch))
        if sum(table.num_rows for table in waiting) >= _ROWS_AT_ONCE:
            self._flush()

    def arrow(self, columns: Sequence[ColumnShape], batch: TableBatch) -> pa.Table:
        """The batch in the types of `columns`, without those that it does not have."""
        own = batch.own
        made = {}
        for column in columns:
            if column.name in own:
                values = own[column.name]
                if values is not None:
                    made[column.name] = loader_column(column.kind, values)
            elif column.name in batch.columns:
                kind, data = batch.columns[column.name]
                if column.kind == "decimal" and self.declared(column) == "VARCHAR":
                    values = data if isinstance(data, list) else data.to_pylist()
                    made[column.name] = pa.array([None if v is None else plain(v) for v in values], pa.string())
                else:
                    made[column.name] = to_arrow(column, kind, data)
        return pa.table(made)

    def _flush(self) -> None:
        if not self._waiting:
            return
        waiting, self._waiting = self._waiting, {}
        for name, tables in waiting.items():
            by_columns: dict[tuple[str, ...], list[pa.Table]] = {}
            for table in tables:
                by_columns.setdefault((*table.column_names, str(table.schema)), []).append(table)
            for alike in by_columns.values():
                self.connection.register("rb_batch", pa.concat_tables(alike))
                names = self.listed(alike[0].column_names)
                self.connection.execute(f"insert into {name} ({names}) select {names} from rb_batch")
                self.connection.unregister("rb_batch")

    @override
    def merge(self, merge: Merge) -> tuple[int, int]:
        stamp = merge.stamp
        assert stamp is not None
        new, changed = self._note_written(merge, " or t._rb_deleted_at is not null" if merge.revive else "", "")
        if changed:
            self.run(f"delete from {merge.table} where rowid in (select t_row from rb_written)")
        self._insert_written(merge, {"_rb_ledger_line": str(stamp.load), "_rb_loaded_at": stamp.at}, new + changed)
        return new, changed

    @override
    def add_versions(self, merge: Merge) -> tuple[int, int]:
        stamp = merge.stamp
        assert stamp is not None
        new, changed = self._note_written(merge, "", "and t._rb_valid_until is null")
        if changed:
            self.run(f"update {merge.table} set _rb_valid_until = {stamp.at} where rowid in (select t_row from rb_written)")
        begun = {"_rb_valid_from": stamp.at, "_rb_ledger_line": str(stamp.load), "_rb_loaded_at": stamp.at}
        self._insert_written(merge, begun, new + changed)
        return new, changed

    def _note_written(self, merge: Merge, or_changed: str, among: str) -> tuple[int, int]:
        """Note the staged rows to write, each with the row that it replaces: (number of new rows, number of changed rows)."""
        changed = self.differs(merge.compared, "t", "s") if merge.compared else "false"
        self.run(
            f"""create temp table rb_written as select s.rowid as s_row, t.rowid as t_row
                from {merge.stage} as s left join {merge.table} as t on {self.matching(merge.key, "t", "s")} {among}
                where t.rowid is null or {changed}{or_changed}"""
        )
        written, held = self.query("select count(*), count(t_row) from rb_written")[0]
        return written - held, held

    def _insert_written(self, merge: Merge, stamped: dict[str, str], written: int) -> None:
        some = "where s.rowid in (select s_row from rb_written)" if written < merge.staged else ""
        self.run(
            f"""insert into {merge.table} ({self.listed([*merge.names, *stamped])})
                select {self.listed(merge.names, "s")}, {", ".join(stamped.values())} from {merge.stage} as s {some}"""
        )
        self.run("drop table rb_written")

    @override
    def delete_matching(self, table: str, temp: str, key: Sequence[str], also: str = "true") -> int:
        return self.run(f"delete from {table} as t using {temp} as g where {self.matching(key, 't', 'g')} and {also}")

    @override
    def next_loads(self, count: int) -> list[int]:
        # The first greatest value that a process asks for takes it 4 ms longer than this.
        last = self.query("select load from w._rb_ledger order by load desc limit 1")
        first = int(last[0][0]) + 1 if last else 1
        return list(range(first, first + count))

    def close(self) -> None:
        """Close the connection."""
        if self._opened.exception() is None:  # what kept it from opening was told where it was asked for
            self.connection.close()


def plain(value: Any) -> str:
    """A decimal as DuckDB's text shows it, without an exponent."""
    return value if isinstance(value, str) else format(value, "f")
