"""What the loader asks of an engine: few verbs, each said in the engine's own SQL.

Statements that are the same everywhere stand in `loader/`. They are written with `?` for bound values and with names in double quotes, as
the SQL standard has them; what engines say differently (`||`, `nulls last`, `update … from`, temp tables) is a verb here.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from ..errors import WarehouseError
from ..records.column_types import Kind
from ..records.structure import ColumnShape
from ..shaping.batch import TableBatch
from .dialect import Dialect
from .merge import Merge, Stamp


@dataclass(frozen=True)
class Limits:
    """What an engine can hold.

    Attributes:
        columns: the most that a table may have, the loader's own included.
        nul_in_text: whether text may hold U+0000.
    """

    columns: int
    nul_in_text: bool = True


# The loader's own columns.
PARENT, POSITION, ROW = "_rb_parent", "_rb_ordinal", "_rb_row_key"
FILE = "_rb_file"
LOAD, AT = ColumnShape("_rb_ledger_line", "int64"), ColumnShape("_rb_loaded_at", "timestamp")
SINCE, UNTIL = ColumnShape("_rb_valid_from", "timestamp"), ColumnShape("_rb_valid_until", "timestamp")
DELETED_AT = ColumnShape("_rb_deleted_at", "timestamp")


class Engine(Dialect):
    """One engine on the connection that loads. Not for two threads at once."""

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
        """A context in which the driver's errors are raised as ours.

        Args:
            doing: what is being done, for the error.
        """

    # Transactions and statements

    @abstractmethod
    def begin(self) -> None:
        """Begin a transaction that may write."""

    @abstractmethod
    def commit(self) -> None:
        """Commit what was begun.

        Raises:
            ConnectionLost: nobody can tell from here whether the commit took place.
        """

    def abandon(self) -> None:
        """Forget what waits to be sent. Raises nothing, so that it hides no other error."""

    @abstractmethod
    def rollback(self) -> None:
        """Take back what was begun, if anything. Raises nothing, so that it hides no other error."""

    @abstractmethod
    def run(self, sql: str) -> int:
        """Run a statement without bound values.

        Returns:
            How many rows it touched.
        """

    @abstractmethod
    def execute(self, sql: str, values: Sequence[Any]) -> None:
        """Run a statement with bound values, `?` for each."""

    @abstractmethod
    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a statement with bound values, `?` for each.

        Returns:
            All of its rows.
        """

    def reconnect(self) -> None:
        """Open a new connection after one was lost; temp tables are gone with the old one."""

    # Tables

    @abstractmethod
    def columns(self, table: str) -> dict[str, str] | None:
        """{column: declared type} of a warehouse table or view, None where there is neither."""

    @contextmanager
    def at_home(self) -> Iterator[None]:
        """A context in which tables of the warehouse may be named plainly, as their readers name them."""
        yield

    def make(self, what: str, name: str, query: str) -> None:
        """Make a table or view of a query that people wrote. Within `at_home`.

        Args:
            what: `table` or `view`.
            name: plain.
            query: one statement, which reaches nothing but the warehouse.
        """
        self.run(f"create {what} {self.quote(name)} as {query}")
        self.query(f"select * from {self.quote(name)} limit 0")  # not every engine looks at what a view says

    def index_files(self, table: str) -> None:
        """The service's list of files, made just now, by its path."""
        self.run(f"create unique index _rb_file_by_number on {table.removeprefix('main.')} (feed, source_table, number)")

    @abstractmethod
    def is_table(self, table: str) -> bool:
        """A table, not a view."""

    def create(self, sql_name: str, columns: Sequence[ColumnShape]) -> None:
        """Make a table of the warehouse.

        Args:
            sql_name: as `table` writes it.
            columns: names and types, in order.
        """
        made = ", ".join(f"{self.quote(c.name)} {self.declared(c)}" for c in columns)
        self.run(f"create table {sql_name} ({made})")

    def create_temp(self, name: str, columns: Sequence[ColumnShape]) -> None:
        """Make a table that goes with the connection.

        Args:
            name: plain, without `temp` in front.
            columns: names and types, in order.
        """
        made = ", ".join(f"{self.quote(c.name)} {self.declared(c)}" for c in columns)
        self.run(f"create temp table {name} ({made})")

    def create_temp_as(self, name: str, query: str) -> None:
        """Make a temp table of what a query finds.

        Args:
            name: plain.
            query: a select.
        """
        self.run(f"create temp table {name} as {query}")

    def drop_temp(self, name: str) -> None:
        """Drop a temp table.

        Args:
            name: plain, or as SQL.
        """
        self.run(f"drop table {self.temp}{name.removeprefix(self.temp)}")

    def add_column(self, sql_name: str, column: ColumnShape) -> None:
        """Add a column, null in the rows that are there."""
        self.run(f"alter table {sql_name} add column {self.quote(column.name)} {self.declared(column)}")

    def add_constant(self, sql_name: str, column: ColumnShape, value: str) -> None:
        """Add a column that holds one value in the rows that are there.

        Args:
            sql_name: the table, as SQL.
            column: its name and type.
            value: a constant, as SQL.
        """
        # A constant default stands for all of them, without touching one.
        self.run(f"alter table {sql_name} add column {self.quote(column.name)} {self.declared(column)} default {value}")

    def drop_column(self, table: str, column: str) -> None:
        """Drop a column.

        Args:
            table: plain.
            column: plain.
        """
        self.run(f"alter table {self.table(table)} drop column {self.quote(column)}")

    @abstractmethod
    def widen(self, table: str, columns: Sequence[tuple[Kind, ColumnShape]], *, temp: bool = False) -> None:
        """Change columns in place to a wider kind, without losing a value.

        Args:
            table: plain.
            columns: [(kind before, the column as it is to be)].
            temp: it is a temp table.

        Raises:
            WarehouseError: a value does not fit into the wider kind.
        """

    @abstractmethod
    def widened(self, expression: str, before: Kind, column: ColumnShape) -> str:
        """SQL for a held value as `widen` would make it.

        Args:
            expression: the value, as SQL.
            before: its kind.
            column: as it is to be.
        """

    @abstractmethod
    def exchange(self, tables: Mapping[str, str]) -> None:
        """Tables get what was built in others, all at once for readers; those others, and what the tables held, go.

        Args:
            tables: {table: the one its rows were built in}; plain names. The first may not be there yet. Its key's index does not stay.
        """

    @contextmanager
    def changing_tables(self) -> Iterator[None]:
        """Within a transaction, around statements that make or change tables. Where those commit by themselves, what was written before is
        committed first, and what comes behind is in a transaction of its own."""
        if self.ddl_commits:
            self.commit()
        yield
        if self.ddl_commits:
            self.begin()

    @abstractmethod
    def ensure_key(self, table: str, key: Sequence[str], *, current: bool = False) -> None:
        """Make a unique index on the key, where the engine has such.

        Args:
            table: plain.
            key: its columns.
            current: unique among the rows that are current versions.
        """

    @abstractmethod
    def drop_key(self, table: str) -> None:
        """The index that `ensure_key` made, if it is there."""

    # Rows

    @abstractmethod
    def insert(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch) -> None:
        """Append a batch, with the loader's own columns `_rb_owner`, `_rb_parent`, `_rb_ordinal`, `_rb_row_key` as far as it has them.

        Args:
            sql_name: the table, as SQL.
            columns: the types that the table has, in which the rows are handed over.
            batch: the rows.
        """

    def insert_stamped(self, sql_name: str, columns: Sequence[ColumnShape], batch: TableBatch, stamp: Stamp) -> None:
        """Append a batch to a table of the warehouse, with its load. Called where `stamps_on_insert` alone."""
        raise AssertionError(f"{type(self).__name__} stages what it appends")

    def staged(self, name: str, key: Sequence[str]) -> None:  # most engines want nothing
        """A stage is complete: what the engine wants to know of it before it plans statements."""

    def empty(self, name: str) -> None:
        """Of a temp table."""
        self.run(f"delete from {name}")

    def index_stage(self, name: str, key: Sequence[str]) -> None:  # most engines join by hashing
        """Before statements that look up the stage's rows one by one."""

    @abstractmethod
    def merge(self, merge: Merge) -> tuple[int, int]:
        """Insert and update the table's rows from the stage. Equal rows stay untouched, with their load and time.

        Returns:
            (inserted, updated)
        """

    def add_versions(self, merge: Merge) -> tuple[int, int]:
        """End the current versions that differ, and add one for each row that is new or changed.

        Returns:
            (first versions of their key, further versions)
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
        """Delete the rows of a table that have a partner in a temp table.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            key: columns in which partners are equal.
            also: a further condition over t and g.

        Returns:
            How many rows went.
        """

    def update_matching(self, table: str, temp: str, key: Sequence[str], what: str, also: str = "true") -> int:
        """Update the rows of a table that have a partner in a temp table.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            key: columns in which partners are equal.
            what: the assignments, as SQL.
            also: a further condition over t and g.

        Returns:
            How many rows were updated.
        """
        return self.update_joined(table, temp, f"{self.matching(key, 't', 'g')} and {also}", what)

    def update_joined(self, table: str, temp: str, match: str, what: str) -> int:
        """Update the rows of a table that have a partner in a temp table, by any condition.

        Args:
            table: as SQL; its alias is t.
            temp: as SQL; its alias is g.
            match: the condition over t and g that makes partners.
            what: the assignments, as SQL.

        Returns:
            How many rows were updated.
        """
        return self.run(f"update {table} as t set {what} from {temp} as g where {match}")

    # Service tables

    def serialise(self, feed: str, source_table: str) -> None:  # files know one writer at a time
        """Wait, within a transaction, for another load of the same table to end. For engines with several writers."""

    @abstractmethod
    def next_loads(self, count: int) -> list[int]:
        """Load ids that nobody else will use, ascending."""


@contextmanager
def transaction(engine: Engine) -> Iterator[None]:
    """What is written in it is written as a whole, or not at all."""
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
    """An instant as RFC 3339 writes it, in UTC, to the millisecond."""
    return utc(moment).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def cannot_widen(table: str, column: str, limit: int) -> WarehouseError:
    """The error for whole numbers beyond `limit` in a column that is to hold fractions too."""
    return WarehouseError(
        "widening the column",
        f"{table}.{column}",
        found=f"fractions arrived where whole numbers up to {limit} are held, and no double holds both exactly",
        fix="set `cast: {" + column + ": decimal}` for this table in the feed",
        code="warehouse.cannot_widen",
    )
