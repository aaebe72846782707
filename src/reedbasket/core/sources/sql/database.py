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
    """One source's database, opened for one run. If it can hold a snapshot, all tables are read in one.

    Attributes:
        as_text: SQL over {}, a column: its values as text.
        has_endless_times: times may be infinite, or of a year that no calendar here has.
        errors: makes the errors of this database.
    """

    as_text: str
    has_endless_times = False
    errors: DatabaseErrors

    def share_of(self, many: str, count: int) -> str:
        """SQL for an integer of at least 1: a count divided by a number.

        Args:
            many: the count, as SQL.
            count: the number.
        """
        return f"greatest({many} / {count}, 1)"

    @property
    def shares_snapshot(self) -> bool:
        """Whether several statements can be read at once and see the same."""
        return False

    @abstractmethod
    def tables(self) -> list[Table]:
        """Every table and view by schema and name, without partitions."""

    @abstractmethod
    def describe(self, query: str, values: dict[str, Any]) -> Table:
        """The columns that a query returns.

        Args:
            query: with :names for values.
            values: {name: value}.

        Raises:
            SourceError: the database refuses the query.
        """

    @abstractmethod
    def read(self, statement: Statement) -> Iterator[pa.Table]:
        """A statement's rows, in columns made by `typed`. For one thread; ends when the run does.

        Raises:
            SourceError: the database refuses it or is lost.
            RunCancelled: the run was cancelled.
        """

    def hold(self, table: str) -> int:
        """Keep a table from being truncated or rebuilt until this source is closed, if a snapshot does not prevent that.

        Args:
            table: as SQL.

        Returns:
            How many blocks it has; 0 if rows are not read by their physical position.
        """
        return 0

    @abstractmethod
    def quote(self, name: str) -> str:
        """A name as SQL."""

    @abstractmethod
    def bound(self, table: str, column: Column, value: Any) -> Any:
        """What a column is compared with to find all rows at or above a value; some rows below may come too.

        Args:
            table: as SQL.
            column: of that table.
            value: the cursor's.
        """

    def row_version(self) -> tuple[str, str]:
        """The latest version of any row, and the condition for rows changed since `:version_from`.

        Raises:
            SourceError: the database keeps no versions.
        """
        raise self.errors.unsupported("asking for row versions", "it has no row versions", "source.no_row_version")

    @abstractmethod
    def lowest(self, kind: Kind) -> Any:
        """The value of `:cursor_from` if nothing was read yet: below every value of the type."""

    def change_log(self, name: LogName, *, utc: bool) -> ChangeLog:
        """The database's own change log.

        Args:
            name: of what keeps it for us.
            utc: times without a zone are in UTC.

        Raises:
            SourceError: there is none.
        """
        raise self.errors.unsupported("following the change log of", "it keeps no change log", "source.cdc_not_enabled")

    def check_logs(self, logs: Mapping[LogName, Sequence[Table]]) -> Iterator[CheckStep]:
        """Steps of `check`: what the change log needs, and how far behind each of its readers is.

        Args:
            logs: {what keeps the log: the tables that follow it}.
        """
        return iter(())

    @abstractmethod
    def close(self) -> None:
        """Close the connections; reads in progress end."""


class DatabaseErrors(SourceErrors):
    """The errors of a database."""

    failed_code = "source.query_failed"
    failed_fix = "see the statement in the run's requests"

    def timed_out(self, doing: str, words: str) -> SourceError:
        """A statement took too long."""
        fix = "read less at once (`source_filter`, `include_columns`), add an index, or raise `statement_timeout` of the source"
        return SourceTimedOut(doing, self.on, found=words, fix=fix)

    def permission_denied(self, doing: str, words: str) -> SourceError:
        """The user may not do this."""
        fix = "`reed setup-sql SOURCE` prints the grants to hand to an administrator"
        return SourceForbidden(doing, self.on, found=words, fix=fix)

    def unsupported(self, doing: str, words: str, code: str) -> SourceError:
        """The database lacks what is needed, so that changes have to be found in another way."""
        return SourceError(doing, self.on, found=words, fix="use changes by cursor, compare or full", code=code)

    def locked(self, doing: str, words: str) -> SourceError:
        """Another session holds a lock for longer than a read waits."""
        fix = "another session holds a lock; run again when it is done"
        return SourceTimedOut(doing, self.on, found=words, fix=fix, code="source.locked")

    def rewritten(self, table: str) -> SourceError:
        """A table was truncated or rewritten behind the snapshot."""
        return SourceFailed(
            f"reading {table} from",
            self.on,
            found="it was truncated or rewritten after the run began, and the run's snapshot shows such a table as empty",
            fix="run again; nothing was removed",
            code="source.file_replaced",
        )

    def log_in_use(self, doing: str, words: str) -> SourceError:
        """Somebody else follows the same log."""
        fix = "wait for the other run to end; each feed needs a slot of its own"
        return SourceBusy(doing, self.on, found=words, fix=fix)

    def require_known(self, text: str, values: Mapping[str, Any]) -> None:
        """Check the names of bound values in a query.

        Raises:
            SourceError: a name is not defined.
        """
        for name in names_in(text):
            if name not in values:
                raise SourceError(
                    "filling in a query for",
                    self.on,
                    found=f":{name} is not defined",
                    fix=f"these are defined: :{', :'.join(values)}",
                    code="source.unknown_name",
                )


def field_of(column: Column, kind: Kind, values: pa.Array, whole: int = -1, fraction: int = -1) -> tuple[pa.Field, pa.Array]:
    """A column of values as an Arrow field with our types, and its values.

    Args:
        column: as the database declares it.
        kind: our type.
        values: as they were read.
        whole: digits before the point, for decimals; -1 if not declared.
        fraction: digits after it; -1 if not declared.
    """
    return typed_field(column.name, kind, values, whole, fraction)


def typed(fields: list[tuple[pa.Field, pa.Array]], rows: int) -> pa.Table:
    """A table of columns made by `field_of`."""
    if not fields:
        return pa.table({}).select([]) if not rows else pa.table({"": pa.nulls(rows)})
    return pa.Table.from_arrays([values for _, values in fields], schema=pa.schema([field for field, _ in fields]))
