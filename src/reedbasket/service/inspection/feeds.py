"""Inspecting feeds: what a run would do, whether source and warehouse agree, and the files of their tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from fnmatch import fnmatchcase

from ... import wire
from ...core.errors import NotFound
from ...core.runs import plan_feed, resolve, verify_feed
from ...core.runs.checkpoints import rewind
from ...core.runs.planning.order import ResolvedRun
from ...core.warehouses import Warehouse, open_warehouse
from ...store import Store, definitions, secrets
from ...wire.typed import typed
from ..run_context import run_context_of
from .drafts import basket_of


def planned(store: Store, feed: str, draft: str = "") -> wire.Plan:
    """What a run of a feed would do."""
    order = _order(store, feed, draft)
    tables = plan_feed(order, run_context_of(store, order))
    full = order.model_dump(mode="json", by_alias=True, exclude={"run", "started", "feed_version"})
    return {
        "feed": feed,
        "version": order.feed_version,
        "warehouse": order.warehouse.warehouse,
        "tables": [typed(wire.PlannedTable, t.as_dict()) for t in tables],
        "ignored": order.ignored,
        "full": full,
    }


def verified(store: Store, feed: str, table: str | None, deep: bool) -> list[wire.VerifiedTable]:
    """A feed's tables, compared with their source."""
    order = _order(store, feed)
    found = [
        typed(wire.VerifiedTable, one.as_dict())
        for one in verify_feed(order, run_context_of(store, order), deep=deep, only=table)
    ]
    for other in order.others:
        for one in verify_feed(other, run_context_of(store, other), deep=deep, only=table):
            found.append(typed(wire.VerifiedTable, one.as_dict(), table=f"{one.table} in {other.warehouse.warehouse}"))
    return found


def files(store: Store, feed: str, table: str | None, state: str | None, match: str | None, limit: int) -> list[wire.FileLine]:
    """Files, the latest loaded first."""
    found: list[wire.FileLine] = []
    for place in definitions.basket(store).feeds[feed].warehouses:
        with _opened(store, feed, place) as (tables, warehouse):
            found += [
                typed(wire.FileLine, line.as_dict(), warehouse=place, table=name)
                for name in tables
                if table in (None, name)
                for line in warehouse.files(feed, name)
                if state in (None, line.state) and (match is None or fnmatchcase(line.path, match))
            ]
    found.sort(key=lambda line: (line["at"], line["path"]), reverse=True)
    return found[:limit]


def count_requeued(store: Store, feed: str, table: str, patterns: Sequence[str]) -> int:
    """Have files loaded again into each of the feed's warehouses that has them. Returns their number.

    Raises:
        NotFound: there is no such table or file.
    """
    known: set[str] = set()
    taken: set[str] = set()
    for place in definitions.basket(store).feeds[feed].warehouses:
        with _opened(store, feed, place) as (_, warehouse):
            here = [line.path for line in warehouse.files(feed, table) if line.state != "missing"]
            chosen = [path for path in here if any(path == one or fnmatchcase(path, one) for one in patterns)]
            known.update(here)
            taken.update(chosen)
            if chosen:
                warehouse.requeue_files(feed, table, chosen)
    if not taken:
        raise NotFound(
            "rewinding",
            f"{feed}.{table}",
            found=f"none of its {len(known)} files matches {', '.join(patterns)}",
            fix="list them with `reed files`",
            code="file.not_found",
        )
    return len(taken)


def rewound(store: Store, feed: str, table: str, to: str | None, dry_run: bool) -> wire.RewoundCursor:
    """Move a table's cursor back, or say what that would mean.

    Raises:
        NotFound: there is no such table.
        Conflict: there is nothing to move, or rows would be duplicated.
        DefinitionError: the value is not valid.
    """
    order = _order(store, feed)
    with _opened(store, feed) as (_, warehouse):
        state = warehouse.state(feed, table)
        write = next((one.write for one in order.tables if one.name == table), state.write if state else "")
        was, now = rewind.rewound(feed, table, state, write or "", to)
        if not dry_run:
            warehouse.rewind(feed, table, now.value if now is not None else None)
    for name in definitions.basket(store).feeds[feed].also if not dry_run else []:
        with _opened(store, feed, name) as (_, another):
            another.rewind(feed, table, now.value if now is not None else None)
    found = None
    if dry_run:
        # Of this table alone: an API's stands among the tables, a database's among what the feed names.
        tables = [one for one in order.tables if one.name == table]
        wishes = {table: order.wishes[table]} if table in order.wishes else order.wishes
        alone = order.model_copy(update={"tables": tables, "wishes": wishes})
        planned = plan_feed(alone, run_context_of(store, order), {table: now})
        found = next((one for one in planned if one.source_table == table), None)
    return {
        "table": table,
        "was": was.shown,
        "now": now.shown if now is not None else None,
        "records": found.records if found else None,
        "requests": found.requests if found else None,
        "seconds": found.seconds if found else None,
    }


def _order(store: Store, feed: str, draft: str = "") -> ResolvedRun:
    version = definitions.feed_version(store, feed)
    return resolve(basket_of(store, draft), feed, run=0, version=version, started=datetime.now(UTC))


@contextmanager
def _opened(store: Store, feed: str, name: str | None = None) -> Iterator[tuple[list[str], Warehouse]]:
    """(the feed's tables, one of its warehouses; the first where none is named)."""
    basket = definitions.basket(store)
    definition = basket.feeds[feed]
    place = basket.warehouses[name or definition.warehouse]
    warehouse = open_warehouse(place, store.places, lambda name: secrets.reveal(store, name))
    try:
        yield list(definition.tables), warehouse
    finally:
        warehouse.close()
