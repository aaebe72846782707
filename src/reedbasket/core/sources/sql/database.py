"""What a run needs of a database, whatever its kind."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa

from ...check_steps import CheckStep
from ...errors import SourceBusy, SourceError, SourceFailed, SourceForbidden, SourceTimedOut
from ...records.column_types import Kind
from ...shaping.typed_columns import typed_field
from ..source_errors import SourceErrors
from .bound_values import names_in
from .changelog import ChangeLog, LogName
from .tables import Column, Statement, Table


class Database(ABC):
    """One source's database, opened for one run. Where it can hold a snapshot, all tables are read in one.

    Attributes:
        as_text: SQL over {}, a column: its values as text.
        has_endless_times: a time may be infinite, or of a year that no calendar of ours has.
        errors: makes what goes wrong at this database.
    """

    as_text: str
    has_endless_times = False
    errors: DatabaseErrors

    def share_of(self, many: str, count: int) -> str:
        """SQL for a whole number of at least 1: a count divided among so many.

        Args:
            many: the count, as SQL.
            count: among how many.
        """
        return f"greatest({many} / {count}, 1)"

    @property
    def shares_snapshot(self) -> bool:
        """Whether several statements may be read at once and see the same."""
        return False

    @abstractmethod
    def tables(self) -> list[Table]:
        """Every table and view, without the parts of partitioned ones, by schema and name."""

    @abstractmethod
    def describe(self, query: str, values: dict[str, Any]) -> Table:
        """The columns that a query yields.

        Args:
            query: with :names for values.
            values: {name: value}.

        Raises:
            SourceError: the database refuses the query.
        """

    @abstractmethod
    def read(self, statement: Statement) -> Iterator[pa.Table]:
        """A statement's rows, in columns made by `typed`. For one thread; ends where the run does.

        Raises:
            SourceError: the database refuses it or goes away.
            RunCancelled: the run was cancelled.
        """

    def hold(self, table: str) -> int:
        """Keep a table from being emptied or rebuilt until this source is closed, where snapshots do not see to that.

        Args:
            table: as SQL writes it.

        Returns:
            How many blocks it has by now; 0 where rows are not read by their place.
        """
        return 0

    @abstractmethod
    def quote(self, name: str) -> str:
        """A name as SQL writes it."""

    @abstractmethod
    def bound(self, table: str, column: Column, value: Any) -> Any:
        """What a column is compared with to find all that is at or above a value; some below may come too.

        Args:
            table: as SQL writes it.
            column: of that table.
            value: the cursor's.
        """

    def row_version(self) -> tuple[str, str]:
        """How far versions of rows have got, and the condition that is true of rows changed since `:version_from`.

        Raises:
            SourceError: the database keeps no versions.
        """
        raise self.errors.unsupported("asking for row versions", "it keeps no version of its rows", "source.no_row_version")

    @abstractmethod
    def lowest(self, kind: Kind) -> Any:
        """What stands for `:cursor_from` where nothing was read yet: below every value of the kind."""

    def change_log(self, name: LogName, *, utc: bool) -> ChangeLog:
        """The database's own log of changes.

        Args:
            name: of what keeps it for us.
            utc: times without a zone are in UTC.

        Raises:
            SourceError: there is none.
        """
        raise self.errors.unsupported("following the log of", "it keeps none", "source.no_log")

    def check_logs(self, logs: Mapping[LogName, Sequence[Table]]) -> Iterator[CheckStep]:
        """Steps of `check` that say what the change log needs, and how far behind each reader of it is.

        Args:
            logs: {what keeps the log: the tables that follow it}.
        """
        return iter(())

    @abstractmethod
    def close(self) -> None:
        """Let go of connections; what is being read ends."""


class DatabaseErrors(SourceErrors):
    """What goes wrong at a database."""

    failed_code = "source.query_failed"
    failed_fix = "see the statement in the run's requests"

    def timed_out(self, doing: str, words: str) -> SourceError:
        """A statement took too long."""
        fix = "read less at once (`source_filter`, `include_columns`), add an index, or raise `statement_timeout` of the source"
        return SourceTimedOut(doing, self.on, found=words, fix=fix)

    def no_right(self, doing: str, words: str) -> SourceError:
        """The user may not."""
        fix = "`reed setup-sql SOURCE` prints the grants to hand to an administrator"
        return SourceForbidden(doing, self.on, found=words, fix=fix)

    def unsupported(self, doing: str, words: str, code: str) -> SourceError:
        """The database has nothing of the kind, so that changes have to be found in another way."""
        return SourceError(doing, self.on, found=words, fix="find changes by cursor, by compare or by full", code=code)

    def locked(self, doing: str, words: str) -> SourceError:
        """Another session holds a lock for longer than we wait."""
        fix = "another session holds a lock; run again when it is done"
        return SourceTimedOut(doing, self.on, found=words, fix=fix, code="source.locked")

    def rewritten(self, table: str) -> SourceError:
        """A table was truncated or rewritten behind the snapshot."""
        return SourceFailed(
            f"reading {table} from",
            self.on,
            found="it was truncated or rewritten after the run began, and the run's snapshot shows such a table as empty",
            fix="run again; nothing was removed",
            code="source.rewritten",
        )

    def in_use(self, doing: str, words: str) -> SourceError:
        """Somebody else follows the same log."""
        fix = "wait for the other run to end; a feed follows the log by a slot of its own"
        return SourceBusy(doing, self.on, found=words, fix=fix)

    def require_known(self, text: str, values: Mapping[str, Any]) -> None:
        """Raises SourceError for a name in a query that stands for nothing."""
        for name in names_in(text):
            if name not in values:
                raise SourceError(
                    "filling in a query for",
                    self.on,
                    found=f":{name} is not known",
                    fix=f"known are :{', :'.join(values)}",
                    code="source.unknown_name",
                )


def field_of(column: Column, kind: Kind, values: pa.Array, whole: int = -1, fraction: int = -1) -> tuple[pa.Field, pa.Array]:
    """A column of values as an Arrow field of ours, and its values.

    Args:
        column: as the database declares it.
        kind: our kind.
        values: as they were read.
        whole: digits before the point, of decimals; -1 where nothing is said.
        fraction: digits behind it; -1 as before.
    """
    return typed_field(column.name, kind, values, whole, fraction)


def typed(fields: list[tuple[pa.Field, pa.Array]], rows: int) -> pa.Table:
    """Columns made by `field_of`."""
    if not fields:
        return pa.table({}).select([]) if not rows else pa.table({"": pa.nulls(rows)})
    return pa.Table.from_arrays([values for _, values in fields], schema=pa.schema([field for field, _ in fields]))
