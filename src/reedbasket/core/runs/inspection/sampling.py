"""Reading the first records of an API's tables, without a feed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta

from ...sources.http.sender import SHOWN_BYTES, Sender
from ...sources.requests_seen import Exchange
from ...spec.connector import request_templates
from ...spec.http import HttpTable, WindowRule
from ...spec.template import names
from ..execution.http_table_reader import HttpTableReader, parents_of
from ..execution.passes import Parents
from ..planning.order import ResolvedSource, ResolvedTable
from ..request_context import RequestContext


@dataclass
class Sampler:
    """Reads tables of one API, each from the beginning, or from its latest window (of a day, unless declared otherwise)."""

    order: ResolvedSource
    asking: RequestContext
    sender: Sender
    parents: Parents

    def reader(self, name: str, rule: HttpTable) -> HttpTableReader:
        """A reader of one table."""
        sends_window = any(name.startswith("window.") for _, text in request_templates(rule) for name in names(text))
        day = {"from": (self.order.started - timedelta(days=3)).strftime("%Y-%m-%d")}
        window = rule.window or (WindowRule.model_validate(day) if sends_window else None)
        by, key = "window" if window else "full", rule.primary_key or []
        table = ResolvedTable(name=name, target=name, rule=rule, by=by, window=window, write="append", key=key)
        return HttpTableReader(self.order, table, self.asking, self.sender, None, self.parents, latest=True)


@contextmanager
def sampling(
    order: ResolvedSource,
    asking: RequestContext,
    *,
    attempts: int = 2,
    wire: Callable[[Exchange], None] | None = None,
    wire_bytes: int = SHOWN_BYTES,
) -> Iterator[Sampler]:
    """A context in which tables can be read.

    Args:
        attempts: for each request.
        wire: is told about every exchange, with so many bytes of each body.

    Raises:
        SourceError: the request signer does not exist.
    """
    retry = order.retry.model_copy(update={"attempts": attempts})
    sender = asking.sender(lambda _: None, retry=retry, wire=wire, wire_bytes=wire_bytes)
    parents = parents_of(order, asking, sender)
    try:
        yield Sampler(order, asking, sender, parents)
    finally:
        parents.close()
        sender.close()
