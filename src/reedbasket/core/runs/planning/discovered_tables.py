"""Tables that only the source knows, for connectors in Python: discovered, and matched with what a feed names."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fnmatch import fnmatchcase
from typing import Any

from pydantic import ValidationError

from ...errors import DefinitionError, ReedError
from ...records.names import claim
from ...sources.http import Sender
from ...sources.python.host import CodeHost, ConnectorBroken
from ...sources.python.reader import settings_in
from ...sources.requests_seen import RequestSeen
from ...spec.database_feed import is_pattern
from ...spec.http import HttpTable
from ...spec.table_choice import choice_mistakes, table_choice
from ..request_context import RequestContext, RunContext
from .matched_tables import MatchedTables, empty_patterns, ignored, warnings_for_empty_patterns
from .order import ResolvedRun, ResolvedSource, ResolvedTable, of_api
from .table_selection import near

_LONGEST_NAME = 200


def discover_tables(
    order: ResolvedSource, asking: RequestContext, sender: Sender, told: Callable[[Any, str, str], None] = lambda *_: None
) -> dict[str, HttpTable]:
    """{name: table}. What the connector's definition says of a table overrides what the source says.

    Raises:
        SourceError: the source cannot be asked.
        RunCancelled: the run was cancelled.
    """
    assert order.code is not None and order.asked is not None
    doing = "asking which tables there are"
    host = CodeHost(
        order.code,
        doing=doing,
        mask=asking.mask,
        stop=sender.stop,
        base=asking.base_url,
        send=lambda request, good: sender.send(request, doing, good),
        told=told,
    )
    said: dict[str, dict[str, Any]] = host.tables(settings_in(asking.values))
    for name, written in order.asked.items():
        said[name] = {**said.get(name, {}), **written.model_dump(mode="json", by_alias=True, exclude_unset=True)}
    found = {}
    for name, table in said.items():
        if not name or len(name) > _LONGEST_NAME or not name.isprintable() or is_pattern(name):
            raise _no_table(order, doing, repr(name[:40]), "a name has at most 200 printable characters, without *, ? and [")
        try:
            found[name] = HttpTable.model_validate(table)
        except ValidationError as error:
            wrong = error.errors()[0]
            raise _no_table(order, doing, f"{name}.{'.'.join(map(str, wrong['loc']))}", wrong["msg"]) from None
    return found


def tables_at(
    order: ResolvedSource, context: RunContext, seen: Callable[[RequestSeen], None] = lambda _: None
) -> dict[str, HttpTable]:
    """The same, outside a run.

    Raises:
        SecretMissing: a secret is not set.
        SourceError: the source cannot be asked.
    """
    asking = RequestContext(order, context)
    sender = asking.sender(seen, retry=order.retry.model_copy(update={"attempts": 2}))
    try:
        return discover_tables(order, asking, sender)
    finally:
        sender.close()


def with_discovered_tables(order: ResolvedRun, tables: Mapping[str, HttpTable]) -> MatchedTables:
    """The run with its tables: those that the feed names, and those that match its patterns. A name wins over a pattern, and the first of
    several patterns wins.
    """
    problems: dict[str, ReedError] = {}
    taken: dict[str, tuple[str, bool]] = {}
    no_match: list[str] = []
    for wish in order.wishes:
        if is_pattern(wish):
            continue
        if wish in tables:
            taken[wish] = wish, False
        else:
            found = f"the source has no table of that name{near(wish, tables)}"
            fix = "`reed survey SOURCE` lists them; names have to match exactly"
            problems[wish] = DefinitionError("taking", wish, found=found, fix=fix, code="definition.unknown_table")
    for wish, own in order.wishes.items():
        if not is_pattern(wish):
            continue
        exclude = own.exclude if own is not None else []
        matching = [n for n in tables if fnmatchcase(n, wish) and not any(fnmatchcase(n, other) for other in exclude)]
        if not matching:
            no_match.append(wish)
        for name in matching:
            taken.setdefault(name, (wish, True))
    chosen: list[ResolvedTable] = []
    names: set[str] = set()
    for name, (wish, by_pattern) in taken.items():
        own = order.wishes[wish]
        choice = table_choice(own, order.feed_defaults, name, tables)
        wrong = next(choice_mistakes((), choice, tables[name], by_code=True), None)
        if wrong is not None:
            problems[name] = DefinitionError(
                "choosing", name, found=wrong[1], fix="correct it in the table's entry in the feed", code=wrong[2]
            )
            continue
        target = claim(order.table_prefix + name, names, name)
        names.add(target)
        chosen.append(of_api(name, target, tables[name], choice, own, by_pattern=by_pattern))
    others = sorted(set(tables) - set(taken))
    whole = order.model_copy(update={"tables": chosen, "ignored": others, "asked": None})
    problems |= empty_patterns(no_match, len(chosen), problems)
    return MatchedTables(whole, problems, warnings_for_empty_patterns(no_match) + ignored(others, "tables of the source"))


def _no_table(order: ResolvedSource, doing: str, where: str, why: str) -> ConnectorBroken:
    fix = "fix what the connector's `tables` yields: see docs/authoring.md"
    entry = order.code.entry if order.code else order.connector
    return ConnectorBroken(doing, entry, found=f"{where}: {why}", fix=fix, code="connector.bad_table")
