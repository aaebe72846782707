"""Trying out a table of an API that is still being written: what was sent, what came back, and what that suggests."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from ... import errors
from ...shaping import Shaper, TableShape
from ...sources.http.sender import SHOWN_BYTES
from ...sources.requests_seen import Exchange
from ...spec.http import HttpTable
from ..planning.order import ResolvedSource
from ..request_context import RequestContext, RunContext
from .look import listed
from .sampling import sampling
from .suggestions import Suggestion, suggest_from_answer, suggest_from_columns

# Of an answer so much is looked at; a larger one is shown as text, cut.
_MOST_BYTES = 2 * 1024 * 1024
# The answer as a tree keeps the first of each list, and the beginning of each text.
_ITEMS, _TEXT, _DEEPEST = 3, 200, 12
_ROWS = 200


@dataclass
class TrialResult:
    """The result of a trial.

    Attributes:
        columns: of the records, as a run without a feed would shape them.
        rows: one list of values for each record.
        exchanges: the requests, with shortened answers.
        answer: the last one as a tree, shortened; None if it is not JSON.
        pages: the number of records on each page that was read.
        error: why it did not go on.
    """

    columns: list[tuple[str, str]]
    rows: list[list[Any]]
    exchanges: list[dict[str, Any]]
    answer: Any
    pages: list[int]
    suggested: Suggestion
    error: dict[str, Any] | None


def try_table(order: ResolvedSource, context: RunContext, name: str, rule: HttpTable, *, pages: int) -> TrialResult:
    """Request the first pages of a table, from its latest window. An error on the way is returned with what came before it.

    Raises:
        ReedError: nothing could be requested.
    """
    order = order.model_copy(update={"rate_limit": order.rate_limit.model_copy(update={"concurrency": 1})})
    asking = RequestContext(order, context)
    exchanges: list[Exchange] = []
    records: list[dict[str, Any]] = []
    counts: list[int] = []
    error: errors.ReedError | None = None
    try:
        with sampling(order, asking, attempts=1, wire=exchanges.append, wire_bytes=_MOST_BYTES) as sampler:
            _, chunks = sampler.reader(name, rule).sample()
            for chunk in chunks:
                records += chunk.records
                counts.append(len(chunk.records))
                if len(counts) == pages:
                    break
    except errors.ReedError as failed:
        error = asking.mask.error(failed)
        if not exchanges:
            raise
    columns = _columns(name, records[:_ROWS])
    # Pages may have been asked for ahead; the first answer that is of the table is what suggests most.
    last = next((one for one in exchanges if 200 <= one.status < 300), exchanges[-1] if exchanges else None)
    body = _parsed(last)
    suggested = Suggestion()
    if last is not None and body is not None:
        suggested = suggest_from_answer(body, last.answer_headers, last.url, rule.records)
    suggested.key, suggested.cursor = suggest_from_columns(columns)
    rows = [list(row) for row in zip(*[values for _, _, values in columns])]
    shown = [
        asdict(one) | {"answer_body": one.answer_body[:SHOWN_BYTES], "cut": len(one.answer_body) > SHOWN_BYTES}
        for one in exchanges
    ]
    heads = [(column, kind) for column, kind, _ in columns]
    return TrialResult(heads, rows, shown, _pruned(body), counts, suggested, error.as_dict() if error else None)


def _columns(name: str, records: Sequence[dict[str, Any]]) -> list[tuple[str, str, list[Any]]]:
    shaper = Shaper(TableShape(name), [], "row")
    shaped = shaper.shape(records, 0)
    held = shaped.batches[0].columns if shaped.batches else {}
    return [
        (column.name, column.kind, listed(held[column.name][1]) if column.name in held else [None] * shaped.records)
        for column in shaper.family.root.columns
    ]


def _parsed(exchange: Exchange | None) -> Any:
    if exchange is None:
        return None
    try:
        return json.loads(exchange.answer_body)
    except (ValueError, RecursionError):
        return None


def _pruned(value: Any, deep: int = 0) -> Any:
    """A value that is small enough to show as a tree. A list that was cut ends with how many more there are: {"…": 97}."""
    if isinstance(value, dict):
        return {name: _pruned(below, deep + 1) for name, below in value.items()} if deep < _DEEPEST else "{…}"
    if isinstance(value, list):
        if deep >= _DEEPEST:
            return "[…]"
        kept = [_pruned(item, deep + 1) for item in value[:_ITEMS]]
        return [*kept, {"…": len(value) - _ITEMS}] if len(value) > _ITEMS else kept
    return value[:_TEXT] + "…" if isinstance(value, str) and len(value) > _TEXT else value
