"""Reading a table of a database by statements: which statement, from where, and what may be saved of it so far."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any

import pyarrow as pa
from typing_extensions import override

from ...changes.cursor import CursorTracker, saved_at
from ...changes.window import position, windows, within
from ...errors import ReedError
from ...records.bounded_queue import BoundedQueue
from ...records.column_records import ColumnRecords
from ...records.plain_values import as_records
from ...records.position import SavedCursor
from ...sources.batching import several
from ...sources.chunk import Chunk
from ...sources.parallel_reader import UnorderedParallelReader
from ...sources.requests_seen import RequestSeen
from ...sources.sql import Column, Statement
from ...sources.sql.bound_values import names_in
from ...sources.sql.changelog import Lag
from ...spec import template
from ...spec.time_steps import Window
from ...spec.times import format_time, parse_time, plain_time
from ..checkpoints.ranges import RangeCheckpoint, newest, spans
from ..planning.column_selection import select_columns
from ..planning.order import ResolvedSource
from ..planning.table_selection import ChosenTable
from .table_reader import TableReader

if TYPE_CHECKING:
    from .database_session import DatabaseSession

# A first read goes by the cursor's index, so that it may commit on the way, from this many rows on; below, the table is read as it lies.
_ORDERED_FROM_ROWS = 1_000_000


class DatabaseTableReader(TableReader):
    """Reads a table by SQL statements; see TableReader."""

    flat = True

    def __init__(
        self,
        reading: DatabaseSession,
        order: ResolvedSource,
        chosen: ChosenTable,
        saved: SavedCursor | None,
        seen: Callable[[RequestSeen], None],
        *,
        until: datetime | None = None,
        latest: bool = False,
    ) -> None:
        super().__init__(saved)
        self._reading = reading
        self._chosen = chosen
        self._seen = seen
        self._version: tuple[str, str] | None = None
        self._windows: list[Window] = []
        self._lag: Lag | None = None
        self._columns, self.left_out = select_columns(chosen, reading.database.as_text)
        self._midst: RangeCheckpoint | None = None
        values = order.values({})
        ranged = chosen.range_column if order.window is None else None
        self._window_column = chosen.window_column
        one_of_time = chosen.cursor is not None and chosen.cursor.type == "time" and len(chosen.cursor_columns) == 1
        if (
            order.window is not None
            and one_of_time
            and "cursor_from" not in names_in(f"{chosen.own.query} {chosen.own.source_filter}")
        ):
            # A part of the past is asked for with both its ends, and nothing is followed.
            self._window_column, self._windows = chosen.cursor_columns[0], [order.window]
            self.from_text = format_time(order.window[0])
            return
        if ranged is not None and chosen.by in ("cursor", "full", "compare", "row_version", "cdc"):
            self._midst = self._of_ranges(ranged, saved)
        elif saved is not None and saved.kind == "ranges":
            self._saved = None
        if self._midst is not None:
            self.from_text = saved.shown if saved is not None and self._midst.below is not None else None
            if chosen.by == "row_version":
                self._version = reading.database.row_version()
        elif chosen.cursor is not None:
            self._follow(order, chosen, values)
        elif chosen.window is not None:
            start = parse_time(template.fill(chosen.window.start, values))
            given = order.window
            self._windows = (
                within(chosen.window, given) if given else list(windows(chosen.window, start, saved, until or order.started))
            )
            self._windows = self._windows[-1:] if latest else self._windows
            self.from_text = format_time(self._windows[0][0]) if self._windows else None
        elif chosen.by == "row_version":
            self._version = reading.database.row_version()
            self.from_text = saved.value if saved else None

    def _of_ranges(self, column: Column, saved: SavedCursor | None) -> RangeCheckpoint | None:
        """None where the table has been read whole, and changes go on from what is saved."""
        if saved is not None and saved.kind != "ranges" and self._chosen.by not in ("full", "compare"):
            return None
        if self._chosen.cursor is not None and self._chosen.cursor.start:
            return None  # the first read is a part too, and goes by the cursor's index
        midst = RangeCheckpoint.of(saved, column.name)
        return midst if midst is not None and midst.below is not None else RangeCheckpoint(None, None)

    def _follow(self, order: ResolvedSource, chosen: ChosenTable, values: dict[str, Any]) -> None:
        rule, table = chosen.cursor, chosen.table
        assert rule is not None
        given = order.window if rule.type == "time" else None
        start = format_time(given[0]) if given else rule.start
        columns = [table.column(name) for name in chosen.cursor_columns]
        lacking = [c.name for c in columns if c is not None and c.name not in table.indexed and table.what == "table"]
        if lacking:
            quote = self._reading.database.quote
            where = ".".join(quote(part) for part in (table.schema, table.name) if part)
            words = "; ".join(f"create index on {where} ({quote(name)})" for name in lacking)
            self.notes.append(
                ("warning", "cursor.no_index", f"no index begins with the cursor, so each run scans the whole table: {words}")
            )
        large = (table.rows or 0) >= _ORDERED_FROM_ROWS or self._saved is not None
        one = columns[0] if len(columns) == 1 else None
        by_index = one is not None and not one.nullable and not lacking and table.what == "table" and rule.type != "text"
        # What the database leaves out below a bound is exact, or what it brings too much is passed over here.
        rule = rule.model_copy(update={"sorted": by_index and large, "bound": "none"})
        self.tracker = CursorTracker(
            rule,
            self._saved,
            template.fill(start, values) if start else None,
            given[1] if given else order.started,
            keep_all_seen=chosen.write == "append",
            columns=chosen.cursor_columns,
        )
        self.from_text = self.tracker.from_text

    @property
    @override
    def cursor_from(self) -> Any:
        return self.tracker.request_from if self.tracker else None

    @override
    def chunks(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """All records of the pass.

        Raises:
            SourceError: the statement failed.
            RunCancelled: the run was cancelled.
        """
        return self._over_windows() if self._by_windows else self._whole()

    def _over_windows(self) -> Iterator[Chunk]:
        for window in self._windows:
            yield from self._one(window, position(window))

    @override
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(the first statement, its first chunks)."""
        if self._by_windows and not self._windows:
            return "nothing is due", iter(())
        window = self._windows[0] if self._windows else None
        return self.statement(window).text, self._one(window, None)

    @override
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        """(records, statements) of the whole pass, as far as the database can tell."""
        rows = (
            self._chosen.table.rows if self._chosen.by in ("full", "compare") and not self._chosen.own.source_filter else None
        )
        return rows, max(1, len(self._windows))

    @property
    def _by_windows(self) -> bool:
        return self._chosen.window is not None or bool(self._windows)

    @override
    def committed(self, cursor: SavedCursor | None) -> None:
        self._saved = cursor or self._saved

    @property
    @override
    def lag(self) -> Lag | None:
        return self._leader._lag

    @property
    @override
    def commits_only_large_loads(self) -> bool:
        return self._midst is not None

    @property
    @override
    def can_commit(self) -> bool:
        if self._midst is not None and self._chosen.complete:
            return False
        return super().can_commit

    @override
    def position(self, *, ended: bool) -> SavedCursor | None:
        if self.tracker is not None:
            return self.tracker.position()
        midst, version = self._leader._midst, self._leader._version
        if ended and midst is not None and midst.then is not None:
            return midst.then
        if ended and version is not None:
            return SavedCursor("row_version", version[0], None, "row version")
        return self._done

    def _whole(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """All rows of a table or query: by one statement, or one for each range."""
        chosen, database = self._chosen, self._reading.database
        rule = chosen.own.parallel_read
        if self._midst is None or chosen.range_column is None or rule is None:
            return self._one(None, None)
        concurrency = rule.concurrency if database.shares_snapshot else 1
        # Who commits on the way commits up to a mark, and wants what is before it first.
        in_order = concurrency == 1 or not chosen.complete
        column = chosen.range_column
        if in_order:
            ranges = self._in_ranges(column, rule.parts)
            return several(((mark, self.read(statement)) for mark, statement in ranges), concurrency, chosen.name)

        mark = RangeCheckpoint(None, self._ranges_begin().then).saved(column.name)
        passes = (self.read(statement) for _, statement in self._in_ranges(column, rule.parts))
        return UnorderedParallelReader(passes, concurrency, chosen.name, mark)

    def _in_ranges(self, column: Column, count: int) -> Iterator[tuple[SavedCursor, Statement]]:
        """See ranges.spans; each with its statement."""
        midst = self._ranges_begin()
        is_table = self._chosen.table.what == "table"
        for mark, span in spans(self._reading.database, self._source, column, count, midst, is_table=is_table):
            yield mark, self.statement(None, span)

    def _ranges_begin(self) -> RangeCheckpoint:
        """With where changes go on from behind them: from before the first one is read."""
        assert self._midst is not None
        if self._midst.then is None:
            self._midst = RangeCheckpoint(self._midst.below, self._after_ranges())
        return self._midst

    def _after_ranges(self) -> SavedCursor | None:
        """Where changes go on from, as of now: all that changes later stands behind it."""
        chosen = self._chosen
        if chosen.cursor is not None:
            columns = [c for name in chosen.cursor_columns if (c := chosen.table.column(name)) is not None]
            value = newest(self._reading.database, self._source, columns)
            return None if value is None else saved_at(chosen.cursor, value)
        return SavedCursor("row_version", self._version[0], None, "row version") if self._version else None

    @property
    def _source(self) -> str:
        table, quote = self._chosen.table, self._reading.database.quote
        if self._chosen.own.query is not None:
            return f"(\n{self._chosen.own.query}\n) as q"
        return ".".join(quote(part) for part in (table.schema, table.name) if part)

    def _one(self, window: Window | None, mark: SavedCursor | None) -> Iterator[Chunk]:
        yield from self.read(self.statement(window), mark)

    def read(self, statement: Statement, mark: SavedCursor | None = None) -> Iterator[Chunk]:
        """The records of one statement.

        Args:
            mark: put on the last chunk.

        Raises:
            SourceError: the statement failed.
            RunCancelled: the run was cancelled.
        """
        began, rows, size, problem = time.monotonic(), 0, 0, ""
        total = self._chosen.table.rows if self._chosen.by in ("full", "compare", "cdc") else None
        held: Chunk | None = None
        try:
            for table in self._reading.database.read(statement):
                if held is not None:
                    yield held
                rows, size = rows + table.num_rows, size + table.nbytes
                held = Chunk(_records(table), table.nbytes, [], total)
        except ReedError as error:
            problem = error.found
            raise
        finally:
            seconds = time.monotonic() - began
            self._seen(RequestSeen("SQL", statement.text, None, seconds, size, 1, 0.0, problem))
        last = held or Chunk([], 0, [], total)
        yield Chunk(last.records, last.body_bytes, [], last.total, mark=mark)

    def statement(self, window: Window | None, within: tuple[Any, Any] | None = None) -> Statement:
        """The SELECT of one pass, with its values bound by name.

        Args:
            within: a range, from its first bound up to but not including its second.
        """
        database, chosen = self._reading.database, self._chosen
        own, table = chosen.own, chosen.table
        values = self._reading.values(window)
        asked = names_in(f"{own.query or ''} {own.source_filter or ''}")
        source = self._source
        conditions = [f"({own.source_filter}\n)"] if own.source_filter else []
        order = ""
        if self.tracker is not None:
            conditions += self._cursor(values, source, inside="cursor_from" in asked)
            order = f"\norder by {database.quote(chosen.cursor_columns[0])}" if self.tracker.in_order else ""
        window_column = self._window_column
        if window is not None and window_column is not None and not {"window_from", "window_until"} & set(asked):
            column = database.quote(window_column)
            found = table.column(window_column)
            assert found is not None
            for name in ("window_from", "window_until"):
                values[name] = database.bound(source, found, values[name])
            conditions.append(f"{column} >= :window_from and {column} < :window_until")
        ranged = chosen.range_column
        for name, sign, value in zip(("range_from", "range_until"), (">=", "<"), within or ()):
            if value is not None and ranged is not None:
                values[name] = database.bound(source, ranged, value)
                conditions.append(f"{database.quote(ranged.name)} {sign} :{name}")
        if self._version is not None and self._saved is not None and self._midst is None:
            values["version_from"] = int(self._saved.value)
            conditions.append(self._version[1])
        chosen_columns = ", ".join(_select(column, database.quote) for column in self._columns) or "1"
        text = f"select {chosen_columns}\nfrom {source}"
        text += "".join(f"\n{'and' if n else 'where'} {condition}" for n, condition in enumerate(conditions)) + order
        # One that is read by its blocks has no parts, is held, and was looked at then.
        looked_at = within is not None and ranged is not None and ranged.declared == "tid"
        return Statement(text, tuple(self._columns), values, source if table.what == "table" and not looked_at else "")

    def _cursor(self, values: dict[str, Any], source: str, *, inside: bool) -> list[str]:
        """inside: the query asks for `:cursor_from` itself."""
        database, chosen, tracker = self._reading.database, self._chosen, self.tracker
        assert tracker is not None
        columns: list[Column] = [c for name in chosen.cursor_columns if (c := chosen.table.column(name)) is not None]
        low = plain_time(tracker.request_from)
        if low is None:
            values["cursor_from"] = database.lowest(columns[0].kind or "text")
            return []
        values["cursor_from"] = low if inside else database.bound(source, columns[0], low)
        if inside:
            return []
        parts = [f"{database.quote(column.name)} >= :cursor_from" for column in columns]
        if chosen.write != "append" and all(column.nullable for column in columns):
            # Rows without a value move no cursor, and nothing else would ever show them again.
            parts.append("(" + " and ".join(f"{database.quote(c.name)} is null" for c in columns) + ")")
        return ["(" + " or ".join(parts) + ")"]


def _select(column: Column, quote: Callable[[str], str]) -> str:
    name = quote(column.name)
    expression = column.select.replace("{}", name)
    return expression if expression == name else f"{expression} as {name}"


def _records(table: pa.Table) -> ColumnRecords:
    return ColumnRecords(table, lambda: as_records(table), table.nbytes)
