"""What the loader needs from an engine: a few operations, each in the engine's own SQL.

Statements that are the same for all engines are in `loader/`. They are written in standard SQL, with `?` for bound values and names in
double quotes. Whatever engines write differently (`||`, `nulls last`, `update … from`, temporary tables) is an operation here.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from ..records.column_types import Kind
from ..records.structure import ColumnShape
from ..shaping.batch import TableBatch
from .dialect import Dialect
from .limits import Limits
from .merge import Merge, Stamp

# The loader's own columns.
PARENT, POSITION, ROW = "_rb_parent", "_rb_ordinal", "_rb_row_key"
FILE = "_rb_file"
LOAD, AT = ColumnShape("_rb_ledger_line", "int64"), ColumnShape("_rb_loaded_at", "timestamp")
SINCE, UNTIL = ColumnShape("_rb_valid_from", "timestamp"), ColumnShape("_rb_valid_until", "timestamp")
DELETED_AT = ColumnShape("_rb_deleted_at", "timestamp")


class Engine(Dialect):
    """One engine, on the connection that loads. Not for two threads at once."""

    limits: Limits
    # Where temp tables stand.
    temp = ""
    # It puts rows into a table with their load, without a stage (`insert_stamped`): a few may wait in memory until then.
    stamps_on_insert = False
    # Statements that make or change tables commit by themselves, with all that was written before: see loader/publication.py. Each of
    # them then takes place as a whole or not at all, `widen` and `exchange` too.
    ddl_commits = False

    @abstractmethod
    @contextmanager
    def translated(self, doing: str) -> Iterator[None]:
        """A context that translates the driver's errors.

        Args:
            doing: what is being done, for the error.
        """

    # Transactions and statements

    @abstractmethod
    def begin(self) -> None:
        """Begin a transaction that may write."""

    @abstractmethod
    def commit(self) -> None:
        """Commit the transaction.

        Raises:
            ConnectionLost: it is not known whether the commit happened.
        """

    def abandon(self) -> None:
        """Drop rows that wait to be sent. Raises nothing, so that it hides no other error."""

    @abstractmethod
    def rollback(self) -> None:
        """Roll back the transaction, if there is one. Raises nothing, so that it hides no other error."""

    @abstractmethod
    def run(self, sql: str) -> int:
        """Execute a statement without bound values.

        Returns:
            How many rows it affected.
        """

    @abstractmethod
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        """Execute a statement with a bound value for each `?`."""

    @abstractmethod
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Execute a query with a bound value for each `?`.

        Returns:
            All of its rows.
        """

    def reconnect(self) -> None:
        """Connect again after the connection was lost; its temporary tables are gone."""

    # Tables

    @abstractmethod
    def columns(self, table: str) -> dict[str, str] | None:
        """{column: declared type} of a table or view in the warehouse; None if there is none of that name."""

    @contextmanager
    def in_default_schema(self) -> Iterator[None]:
        """A context in which tables of the warehouse may be named without a schema, as their readers name them."""
        yield

    def make(self, what: str, name: str, query: str) -> None:
        """Make a table or view of a query that people wrote. Within `in_default_schema`.

        Args:
            what: `table` or `view`.
            name: plain.
            query: one statement, which reaches nothing but the warehouse.
        """
        self.run(f"create {what} {self.quote(name)} as {query}")
        self.query(f"select * from {self.quote(name)} limit 0")  # not every engine looks at what a view says

    def index_files(self, table: str) -> None:
        """Index the new table of files by its path."""
        self.run(f"create unique index _rb_file_by_number on {table.removeprefix('main.')} (feed, source_table, number)")

    @abstractmethod
    def is_table(self, table: str) -> bool:
        """Whether the name is a table's and not a view's."""

    def create(self, sql_name: str, columns: Sequence[ColumnShape]) -> None:
        """Create a table in the warehouse.

        Args:
            sql_name: from `table`.
            columns: names and types, in order.
        """
        self.make_table(sql_name, ", ".join(map(self.column_sql, columns)))

    def make_table(self, sql_name: str, columns: str) -> None:
        """Create a table in the warehouse; columns: as `create table` has them between its brackets."""
        self.run(f"create table {sql_name} ({columns})")

    def create_temp(self, name: str, columns: Sequence[ColumnShape], key: Sequence[str] = ()) -> None:
        """Create a temporary table.

        Args:
            name: not quoted, without `temp`.
            columns: names and types, in order.
            key: of these, by which rows are looked up one by one.
        """
        made = ", ".join(map(self.column_sql, columns))
        self.run(f"create temp table {name} ({made})")
        if key:
            self.index_stage(self.temp + name, key)

    def create_temp_as(self, name: str, query: str) -> None:
        """Create a temporary table from a query.

        Args:
            name: not quoted.
            query: a select.
        """
        self.run(f"create temp table {name} as {query}")

    def drop_temp(self, name: str) -> None:
        """Drop a temporary table, if it is there.

        Args:
            name: not quoted, or as SQL.
        """
        self.run(f"drop table if exists {self.temp}{name.removeprefix(self.temp)}")

    def add_column(self, sql_name: str, column: ColumnShape) -> None:
        """Add a column; it is null in existing rows."""
        self.run(f"alter table {sql_name} add column {self.column_sql(column)}")

    def add_constant(self, sql_name: str, column: ColumnShape, value: str) -> None:
        """Add a column with the same value in all existing rows.

        Args:
            sql_name: the table, as SQL.
            column: its name and type.
            value: a constant, as SQL.
        """
        # A constant default stands for all of them, without touching one.
        self.run(f"alter table {sql_name} add column {self.column_sql(column)} default {value}")

    def drop_column(self, table: str, column: str) -> None:
        """Drop a column.

        Args:
            table: not quoted.
            column: not quoted.
        """
        self.run(f"alter table {self.table(table)} drop column {self.quote(column)}")

    @abstractmethod
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        """Change columns in place to a wider type, without losing a value.

        Args:
            table: not quoted.
            columns: [(type before, the column as it will be)].
            temp: it is a temporary table.

        Raises:
            WarehouseError: a value does not fit into the wider type.
        """

    @abstractmethod
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        """SQL for a stored value as `widen` would convert it.

        Args:
            expression: the value, as SQL.
            before: its type.
            column: as it will be.
        """

    def prepare_commit(self, tables: Sequence[str]) -> None:
        """Called before rows are written to these tables, outside of transactions if `ddl_commits`: make what the engine itself needs, and
        drop what a `widen` or `exchange` left behind that was cut.
        """

    @abstractmethod
    def exchange(self, tables: Mapping[str, str]) -> None:
        """Replace tables by others, all at once for readers; the others, and the earlier content, are dropped.

        Args:
            tables: {table: the one that replaces it}, not quoted. The table need not exist yet. Its key's index does not stay.
        """

    @contextmanager
    def changing_tables(self) -> Iterator[None]:
        """A context within a transaction for statements that create or change tables. If those commit implicitly, what was written before
        is committed first, and what follows is in a new transaction.
        """
        if self.ddl_commits:
            self.commit()
        yield
        if self.ddl_commits:
            self.begin()

    @abstractmethod
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False) -> None:
        """Create a unique index on the key, if the engine has them.

        Args:
            table: not quoted.
            key: its columns.
            current: unique among the rows that are current versions.
        """

    @abstractmethod
    def drop_key(self, table: str) -> None:
        """Drop the index that `ensure_key` created, if it exists."""

    # Rows

    @abstractmethod
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch) -> None:
        """Append a batch, including those of the loader's own columns `_rb_owner`, `_rb_parent`, `_rb_ordinal`, `_rb_row_key` that it
        has.

        Args:
            sql_name: the table, as SQL.
            columns: with the table's types, in which the rows are sent.
            batch: the rows.
        """

    def insert_stamped(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch, stamp: Stamp) -> None:
        """Append a batch to a table of the warehouse, with the load's stamp. Only called if `stamps_on_insert`."""
        raise AssertionError(f"{type(self).__name__} stages what it appends")

    def staged(self, name: str, key: Sequence[str]) -> None:  # most engines want nothing
        """Called when a stage is complete, for what the engine needs before it plans statements."""

    def empty(self, name: str) -> None:
        """Delete all rows of a temporary table."""
        self.run(f"delete from {name}")

    def index_stage(self, name: str, key: Sequence[str]) -> None:  # most engines join by hashing
        """Called before statements that look up rows of the stage one by one; the first time outside of transactions if `ddl_commits`."""

    @abstractmethod
    def merge(self, merge: Merge) -> tuple[int, int]:
        """Insert and update the table's rows from the stage. Equal rows are not touched, and keep their load and time.

        Returns:
            (inserted, updated)
        """

    def add_versions(self, merge: Merge) -> tuple[int, int]:
        """End current versions that differ, and add a version for each new or changed row.

        Returns:
            (first versions of a key, further versions)
        """
        stamp = merge.stamp
        assert stamp is not None
        ended = 0
        if merge.compared:
            also = f"t._rb_valid_until is null and {self.differs(merge.compared, 't', 'g')}"
            ended = self.update_matching(merge.table, merge.stage, merge.key, f"_rb_valid_until = {stamp.at}", also)
        added = self.run(
            f"""insert into {merge.table} ({self.listed([*merge.names, "_rb_valid_from", "_rb_ledger_line", "_rb_loaded_at"])})
                select {self.listed(merge.names, "s")}, {stamp.at}, {stamp.load}, {stamp.at} from {merge.stage} as s
                where not exists (
                    select 1 from {merge.table} as t where {self.matching(merge.key, "t", "s")} and t._rb_valid_until is null
                )"""
        )
        return added - ended, ended

    @abstractmethod
    def delete_matching(self, table: str, temp: str, key: Sequence[str], also: str = "true") -> int:
        """Delete the rows of a table that match a row of a temporary table.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            key: columns that are equal in matching rows.
            also: a further condition on t and g.

        Returns:
            How many rows were deleted.
        """

    def update_matching(self, table: str, temp: str, key: Sequence[str], what: str, also: str = "true") -> int:
        """Update the rows of a table that match a row of a temporary table.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            key: columns that are equal in matching rows.
            what: the assignments, as SQL.
            also: a further condition on t and g.

        Returns:
            How many rows were updated.
        """
        return self.update_joined(table, temp, f"{self.matching(key, 't', 'g')} and {also}", what)

    def update_joined(self, table: str, temp: str, match: str, what: str) -> int:
        """Update the rows of a table that match a row of a temporary table, by any condition.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            match: the condition on t and g.
            what: the assignments, as SQL.

        Returns:
            How many rows were updated.
        """
        return self.run(f"update {table} as t set {what} from {temp} as g where {match}")

    # Service tables

    def serialise(self, feed: str, source_table: str) -> None:  # files know one writer at a time
        """Wait, within a transaction, until no other load of the same table is running. For engines with several writers."""

    @abstractmethod
    def next_loads(self, count: int) -> list[int]:
        """Load ids that nobody else will use, ascending."""


@contextmanager
def transaction(engine: Engine) -> Iterator[None]:
    """A transaction: everything written in it is committed, or nothing."""
    engine.begin()
    try:
        yield
    except BaseException:
        engine.rollback()
        raise
    engine.commit()


def utc(moment: datetime) -> datetime:
    """The same instant, in UTC."""
    return moment.astimezone(UTC)


def rfc3339(moment: datetime) -> str:
    """An instant in UTC as RFC 3339, to the millisecond."""
    return utc(moment).isoformat(timespec="milliseconds").replace("+00:00", "Z")
