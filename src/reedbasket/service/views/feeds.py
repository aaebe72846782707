"""Feeds: their state, what a run would do, their ledger and rejects."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Annotated

from pydantic import Field

from ... import wire
from ...core.errors import NotFound, no_such_table
from ...core.spec import Basket
from ...store import definitions, feed_status, journal, schedule
from ...store.database import text_of
from ..inspection import feeds as inspection
from ..operations import Body, Query
from ..scheduler import next_due
from .shared import inspect_in_process, operations, parts


class Limit(Query):
    """How many."""

    limit: Annotated[int, Field(ge=1, le=1000)] = 200


class RejectsPart(Limit):
    """Which rejects."""

    before: Annotated[int, Field(ge=1, le=2**53, description="only those with a smaller id")] | None = None


class Verify(Body):
    """Which table, and whether to compare values."""

    table: Annotated[str | None, Field(description="only this table of the feed")] = None
    deep: Annotated[bool, Field(description="compare values too, not only keys")] = False


@operations.add("GET", "/api/v1/feeds", "list feeds with their state, freshness and last outcome")
def list_feeds() -> list[wire.Feed]:
    basket = definitions.basket(parts().store)
    return _feeds(basket, sorted(basket.feeds))


@operations.add("GET", "/api/v1/feeds/{feed}", "one feed", problems=(404,))
def get_feed(feed: str) -> wire.Feed:
    basket = definitions.basket(parts().store)
    require_feed(basket, feed)
    return _feeds(basket, [feed])[0]


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/plan",
    "what a run would do, from a sample of each table",
    problems=(404, 409, 422, 502),
)
def plan(feed: str) -> wire.Plan:
    return inspect_in_process(inspection.planned, feed)


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/ledger",
    "a feed's loads, newest first",
    query=Limit,
    problems=(404,),
)
def feed_ledger(feed: str, query: Limit) -> list[wire.LedgerLine]:
    require_feed(definitions.basket(parts().store), feed)
    return journal.read_ledger(parts().store, feed=feed, limit=query.limit)


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/rejects",
    "records that could not be loaded, newest first",
    query=RejectsPart,
    problems=(404,),
)
def feed_rejects(feed: str, query: RejectsPart) -> list[wire.Reject]:
    require_feed(definitions.basket(parts().store), feed)
    return journal.read_rejects(parts().store, feed, before=query.before, limit=query.limit)


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/drift",
    "changes in the structure of a feed's source, newest first",
    query=Limit,
    problems=(404,),
)
def feed_drift(feed: str, query: Limit) -> list[wire.Drift]:
    require_feed(definitions.basket(parts().store), feed)
    return journal.read_drift(parts().store, feed, limit=query.limit)


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/verify",
    "read the source in full and compare it with the warehouse",
    body=Verify,
    problems=(404, 409, 422, 502),
)
def verify(feed: str, body: Verify) -> list[wire.VerifiedTable]:
    basket = definitions.basket(parts().store)
    require_feed(basket, feed)
    if body.table is not None and body.table not in basket.feeds[feed].tables:
        raise no_such_table("verifying", f"{feed}.{body.table}", f"tables of the feed: {', '.join(basket.feeds[feed].tables)}")
    return inspect_in_process(inspection.verified, feed, body.table, body.deep)


def require_feed(basket: Basket, feed: str) -> None:
    if feed not in basket.feeds:
        known = ", ".join(sorted(basket.feeds)) or "none"
        raise NotFound(
            "looking up the feed",
            feed,
            found=f"feeds: {known}",
            fix="apply a basket that defines it",
            code="feed.not_found",
        )


def _feeds(basket: Basket, names: Sequence[str]) -> list[wire.Feed]:
    paused = schedule.paused(parts().store)
    return [_feed(basket, found, paused.get(found.feed)) for found in feed_status.feed_statuses(parts().store, names)]


def _feed(basket: Basket, found: feed_status.FeedStatus, paused: wire.Pause | None) -> wire.Feed:
    store, name, now = parts().store, found.feed, datetime.now(UTC)
    feed = basket.feeds[name]
    within, rule = feed.fresh_within, feed.schedule
    by_windows = rule is not None and (rule.windows is not None or rule.after is not None)
    due = next_due(basket, name, now) if paused is None else None
    return {
        "name": name,
        "description": feed.description,
        "version": found.version,
        "source": feed.source,
        "connector": basket.sources[feed.source].connector or basket.sources[feed.source].type or "",
        "warehouse": feed.warehouse,
        "also": feed.also,
        "tables": list(feed.tables),
        "activity": found.activity or "idle",
        "last_run": found.last_run,
        "fresh_at": found.fresh_at,
        "rejects": found.rejects,
        "drift": found.drift,
        "schedule": {
            "rule": rule.model_dump(mode="json", by_alias=True, exclude_unset=True) if rule else None,
            "next_due": text_of(due) if due else None,
            "paused": paused,
            "windows": schedule.window_counts(store, name) if by_windows else {},
        },
        "fresh_within_seconds": within.total_seconds() if within else None,
        "late": within is not None and (found.fresh_at or found.first_applied or "") < text_of(now - within),
        "variant": feed.variant,
    }
