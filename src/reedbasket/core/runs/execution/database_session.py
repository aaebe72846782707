"""A run's session with a database: which of its tables the feed selects, and a reader for each."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from typing_extensions import override

from ...errors import ReedError, SourceError
from ...masking import Mask
from ...sources.requests_seen import RequestSeen
from ...sources.sql import Database, Table
from ...sources.sql.changelog import LogName
from ...sources.sql.open import open_database
from ..planning.matched_tables import MatchedTables, empty_patterns, ignored, warnings_for_empty_patterns
from ..planning.order import ResolvedRun, ResolvedSource, ResolvedTable
from ..planning.table_selection import Choice, ChosenTable, choose
from ..request_context import RunContext
from .cdc_table_reader import CdcTableReader, FollowedLog, log_name_of
from .database_table_reader import DatabaseTableReader
from .source_session import ReadStart, SourceSession


class DatabaseSession(SourceSession):
    """See source_session.SourceSession. `database` is read in one snapshot, taken when it is opened."""

    def __init__(self, order: ResolvedSource, context: RunContext, seen: Callable[[RequestSeen], None]) -> None:
        """Connect to the database.

        Raises:
            SecretMissing: a secret is not set.
            SourceError: the connection failed.
        """
        assert order.database is not None
        self._order = order
        self._seen = seen
        source = order.database
        password = context.reveal(source.secrets["password"]) if "password" in source.secrets else None
        self.mask = Mask([password] if password else [])
        self.default_schema = source.default_schema
        self.database: Database = open_database(source, password, context.places, context.stop)
        self._chosen: dict[str, ChosenTable] = {}
        self._logs: dict[LogName, FollowedLog] = {}
        self._feed, self._accept, self._warehouses = "", False, 1

    @override
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        self._feed, self._accept = order.feed, order.accept
        self._warehouses = max(self._warehouses, 1 + len(order.others))
        choice = self.choose(order)
        self._chosen = {chosen.name: chosen for chosen in choice.chosen}
        tables = [table_order(chosen) for chosen in choice.chosen]
        problems = choice.problems | empty_patterns(choice.unmatched, len(tables), choice.problems)
        notes = warnings_for_empty_patterns(choice.unmatched) + ignored(choice.ignored, "in the database")
        if choice.unreadable:
            words = f"these match a pattern of the feed, but cannot be read: {', '.join(choice.unreadable)}"
            notes.append(("warning", "table.permission_denied", words))
        return MatchedTables(order.model_copy(update={"tables": tables}), problems, notes)

    def choose(self, order: ResolvedRun) -> Choice:
        """The tables of the database that the feed selects.

        Raises:
            SourceError: the catalog cannot be read.
        """
        queries, problems = {}, dict[str, ReedError]()
        for name, own in order.wishes.items():
            if own is not None and own.query is not None:
                try:
                    queries[name] = self.database.describe(own.query, self.values(None))
                except SourceError as error:
                    if error.retryable:
                        raise
                    problems[name] = error
        wishes = {name: own for name, own in order.wishes.items() if name not in problems}
        choice = choose(
            wishes, order.feed_defaults, self.database.tables(), self.default_schema, queries, prefix=order.table_prefix
        )
        choice.problems.update(problems)
        return choice

    def values(self, window: tuple[datetime, datetime] | None) -> dict[str, Any]:
        """The values for `:name` in queries and conditions."""
        order = self._order
        begin, end = window or order.window or (order.started, order.started)
        settings = {f"settings_{name}": value for name, value in order.settings.items()}
        variant = {f"variant_{name}": value for name, value in order.variant.items()}
        return (
            settings
            | variant
            | {
                "cursor_from": None,
                "cursor_until": order.window[1] if order.window else order.started,
                "window_from": begin,
                "window_until": end,
                "run_started": order.started,
                "run_id": order.run,
            }
        )

    @override
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> DatabaseTableReader:
        chosen = self._chosen[table.name]
        if chosen.by == "cdc":
            return CdcTableReader(self, self._order, chosen, start.saved, self._seen, self._log_of(chosen), accept=self._accept)
        return DatabaseTableReader(self, self._order, chosen, start.saved, self._seen, until=start.until)

    def _log_of(self, chosen: ChosenTable) -> FollowedLog:
        """The log that a table follows, with all the others of the feed that do."""
        name = log_name_of(chosen, self._feed)
        if name not in self._logs:
            tables = [one for one in self._chosen.values() if one.by == "cdc" and log_name_of(one, self._feed) == name]
            assert self._order.database is not None
            log = self.database.change_log(name, utc=self._order.database.time_zone == "UTC")
            self._logs[name] = FollowedLog(log, tables, self._warehouses, {})
        return self._logs[name]

    @override
    def acknowledge(self) -> None:
        for followed in self._logs.values():
            followed.acknowledge()

    def alone(self, table: Table, name: str) -> DatabaseTableReader:
        """A reader of one table, without a feed."""
        from ...spec.model import FeedTable, Nesting

        chosen = ChosenTable(name, name, FeedTable(), table, "full", "append", [], "hard", Nesting())
        return DatabaseTableReader(self, self._order, chosen, None, self._seen)

    @override
    def close(self) -> None:
        for followed in self._logs.values():
            followed.log.close()
        self.database.close()


def table_order(chosen: ChosenTable) -> ResolvedTable:
    """A selected table, as a part of the resolved run."""
    return ResolvedTable(
        name=chosen.name,
        target=chosen.target,
        by=chosen.by,
        cursor=chosen.cursor,
        window=chosen.window,
        write=chosen.write,
        key=chosen.key,
        deletes=chosen.deletes,
        nesting=chosen.nesting,
        shaping=chosen.own,
        by_pattern=chosen.by_pattern,
    )
