"""What every warehouse provides, whatever its engine."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from ..check_steps import CheckStep
from ..records.ledger import LedgerLine
from ..records.position import SavedCursor
from ..records.structure import TableShape
from ..records.value_limits import ValueLimits
from ..spec.files import Derived
from ..spec.model import Write
from .limits import Limits
from .loader.file_list import FileLine
from .loading import Link, Load, LoadedWindow, LoadTarget


@dataclass(frozen=True)
class TableState:
    """What the warehouse knows about one table of one feed.

    Attributes:
        version: grows by one with every load. A load commits only on top of the version that it started from, which keeps two runs of one
            feed apart.
        structure: what was learned of the table's records.
        cursor: how far the table has been read; None if nothing is saved.
        link: what child rows refer to: their parent's key, or a number that the loader gave the parent's row.
        key: source fields that identify a row; empty for none.
        write: how the table was loaded last; None if an older version did not record it.
    """

    version: int
    structure: TableShape
    cursor: SavedCursor | None
    link: Link
    key: list[str]
    write: Write | None = None


@dataclass(frozen=True)
class QueryResult:
    """The result of a query.

    Attributes:
        columns: [(name, declared type or '')].
        rows: in the query's order.
        truncated: there were more rows than were asked for.
        seconds: how long it took.
    """

    columns: list[tuple[str, str]]
    rows: list[tuple[Any, ...]]
    truncated: bool
    seconds: float


@dataclass(frozen=True)
class TableInfo:
    """One table of a warehouse.

    Attributes:
        name: the table's name.
        columns: [(name, declared type)], in the table's order.
        rows: the exact number.
        feed: which loaded it last; None if no feed loads it.
        last_load: that load's number.
        loaded_at: when it ended, RFC 3339.
        source_table: what it was loaded from.
    """

    name: str
    columns: list[tuple[str, str]]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None
    source_table: str | None


class Warehouse(Protocol):
    """One place that tables are loaded into. Its connection is used by one thread at a time.

    Attributes:
        value_limits: values that it cannot hold.
    """

    value_limits: ValueLimits

    @property
    def limits(self) -> Limits:
        """How wide a table may be.

        Raises:
            WarehouseError: it cannot be reached.
        """

    def state(self, feed: str, source_table: str) -> TableState | None:
        """The state of a table.

        Args:
            feed: the feed's name.
            source_table: the table's name at the source.

        Returns:
            Its state; None if it was not loaded yet.

        Raises:
            WarehouseError: it cannot be reached or read.
        """

    def files(self, feed: str, source_table: str) -> list[FileLine]:
        """The files of a table that were loaded, or are known to be skipped, by path."""

    def load_of_window(self, feed: str, source_table: str, window: LoadedWindow) -> int | None:
        """The number of the load that read a window; None if none has."""

    def keep_derived(self, feed: str, source_table: str, derived: Derived | None, version: int) -> str:
        """Rebuild the view or table derived from a table, if that table or the definition has changed.

        Args:
            feed: the feed's name.
            source_table: the table's name at the source.
            derived: its definition; None if there is none any more.
            version: of the table's state.

        Returns:
            What was done, in words; '' for nothing.

        Raises:
            WarehouseError: the query was refused.
        """

    def requeue_files(self, feed: str, source_table: str, paths: Sequence[str]) -> int:
        """Have the next run read files again, whether they changed or not.

        Args:
            feed: the feed's name.
            source_table: the table's name at the source.
            paths: of the files, as they were listed.

        Returns:
            How many of them are known.

        Raises:
            WarehouseBusy: another run is writing.
        """

    def rewind(self, feed: str, source_table: str, value: str | None) -> bool:
        """Have the next run read from an earlier value of the cursor; loaded rows stay.

        Args:
            feed: the feed's name.
            source_table: the table's name at the source.
            value: the cursor's new value, as it is saved; None for the beginning.

        Returns:
            False if no cursor is saved.

        Raises:
            WarehouseBusy: another run is writing.
        """

    def known_tables(self, feed: str) -> list[str]:
        """The tables that the feed has loaded here, by their names at the source, in order."""

    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        """What `compare` kept with a version of the state; None if nothing was kept with that one."""

    def keys(self, table: str, columns: Sequence[str], *, current: str | None = None) -> Iterator[list[tuple[Any, ...]]]:
        """The keys of a table's rows, in batches.

        Args:
            table: the warehouse table's name.
            columns: its key columns.
            current: a column that must be null for a row to count; None if every row does.

        Yields:
            Lists of tuples, with a value for each column.
        """

    def owner(self, table: str) -> tuple[str, str] | None:
        """(feed, source table) that writes a table; None if no feed does."""

    def existing(self, table: str) -> dict[str, str] | None:
        """{column: declared type} of a table or view; None if there is none of that name."""

    def begin(self, target: LoadTarget, state: TableState | None) -> Load:
        """A load on top of a state.

        Args:
            target: where the rows go, and how they are written.
            state: as `state` told it.

        Raises:
            TableNotOwned: the table was made by somebody else, or by another feed.
            WarehouseError: it cannot be written to.
        """

    def tables(self) -> list[TableInfo]:
        """All tables of the warehouse, by name, with an exact count of rows."""

    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        """Lines of the ledger, oldest first.

        Args:
            feed: of this feed only; None for all.
            after: only loads with a higher number.
            limit: the largest number of lines.
        """

    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        """Rows of a table, the latest loaded first.

        Args:
            table: its name.
            limit: the largest number of rows.
            offset: how many rows to skip.

        Raises:
            NotFound: there is no such table.
        """

    def quote(self, name: str) -> str:
        """A table's or column's name as SQL, as `query` understands it."""

    def text_of(self, expression: str) -> str:
        """SQL for an expression's value as text."""

    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult:
        """Execute a query that only reads, with limits of rows and time.

        Args:
            sql: one statement, in the engine's own SQL.
            limit: the largest number of rows.
            seconds: after which it is ended.

        Raises:
            QueryRefused: it would write, took too long, or the engine did not understand it.
        """

    def check(self) -> list[CheckStep]:
        """Each step to loading, with its result; the last one is the first that fails."""

    def close(self) -> None:
        """Close the connection. May be called twice."""
