"""A run's session with an API: its tables, and a reader for each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from typing_extensions import override

from ...sources.pace import Wait
from ...sources.requests_seen import RequestSeen
from ...spec.http import HttpTable, Retry
from ..planning.discovered_tables import discover_tables, with_discovered_tables
from ..planning.matched_tables import MatchedTables, ignored
from ..planning.order import ResolvedRun, ResolvedSource, ResolvedTable
from ..request_context import RequestContext, RunContext
from .http_table_reader import HttpTableReader, parents_of
from .source_session import ReadStart, SourceSession
from .spool import Spool


class HttpSession(SourceSession):
    """A session by HTTP requests; see SourceSession."""

    def __init__(
        self,
        order: ResolvedSource,
        context: RunContext,
        seen: Callable[[RequestSeen], None],
        told: Callable[[Wait], None] = lambda _: None,
        retry: Retry | None = None,
    ) -> None:
        """Prepare the session; nothing is sent yet.

        Raises:
            SecretMissing: a secret is not set.
            SourceError: the source cannot be used as it is defined.
        """
        self._order = order
        self._requests = RequestContext(order, context)
        self.mask = self._requests.mask
        self._sender = self._requests.sender(seen, told, retry)
        self._parents = parents_of(order, self._requests, self._sender)
        # Of a connector that asks the source: which there are, and what it said on the way.
        self._tables: dict[str, HttpTable] | None = None
        self._said: list[tuple[Any, str, str]] = []

    @override
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        if order.asked is not None:
            if self._tables is None:
                self._tables = discover_tables(order, self._requests, self._sender, lambda *line: self._said.append(line))
            found = with_discovered_tables(order, self._tables)
            return replace(found, notes=[*self._said, *found.notes])
        return MatchedTables(order, {}, ignored(order.ignored, "tables of the connector"))

    @override
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> HttpTableReader:
        return HttpTableReader(
            self._order,
            table,
            self._requests,
            self._sender,
            start.saved,
            self._parents,
            until=start.until,
            expected=start.expected,
        )

    @override
    def has_dependents(self, table: str) -> bool:
        return self._parents.is_parent(table)

    @override
    def keep(self, table: str, since: Any, spool: Spool) -> None:
        self._parents.keep(table, since, spool)

    @override
    def close(self) -> None:
        self._parents.close()
        self._sender.close()
