"""Schedules: pauses, windows, backfills; and notifications."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import islice
from typing import Annotated, Literal

from pydantic import Field

from ... import wire
from ...core.runs import resolve
from ...core.spec.times import Step, Time, format_time
from ...core.spec.window_grid import Grid
from ...store import definitions, notifications, schedule
from ..operations import Body, Query
from ..problems import BadRequest
from .feeds import require_feed
from .shared import caller, operations, parts

# Hourly windows of eleven years.
_MOST_WINDOWS = 100_000


class WindowsPart(Query):
    """Which windows."""

    state: Literal["waiting", "queued", "done", "failed", "skipped"] | None = None
    backfill: Annotated[int, Field(ge=0)] | None = None
    limit: Annotated[int, Field(ge=1, le=5000)] = 200


class Latest(Query):
    """How many of each."""

    each: Annotated[int, Field(ge=1, le=500, description="the number of windows of each feed")] = 40


class Range(Body):
    """A range of time."""

    start: Annotated[Time, Field(alias="from")]
    until: Time


class BackfillParameters(Range):
    """The range of a backfill, and the length of its windows."""

    length: Annotated[Step, Field(description="the window of each run: a duration, or month")]


class FeedFilter(Query):
    """Of which feed."""

    feed: str | None = None


class NotificationsPart(Query):
    """Which notifications."""

    state: Literal["waiting", "sent", "undeliverable"] | None = None
    limit: Annotated[int, Field(ge=1, le=1000)] = 100


@operations.add("POST", "/api/v1/feeds/{feed}/pause", "pause a feed's schedule", problems=(404,))
def pause(feed: str) -> wire.Feed:
    require_feed(definitions.basket(parts().store), feed)
    schedule.pause(parts().store, feed, caller().name)
    return _looked_at(feed)


@operations.add("POST", "/api/v1/feeds/{feed}/resume", "resume a feed's schedule", problems=(404,))
def resume(feed: str) -> wire.Feed:
    require_feed(definitions.basket(parts().store), feed)
    schedule.resume(parts().store, feed)
    return _looked_at(feed)


def _looked_at(feed: str) -> wire.Feed:
    from .feeds import get_feed

    parts().scheduler.look(feed)
    return get_feed(feed)


@operations.add(
    "GET",
    "/api/v1/schedules",
    "list scheduled feeds with their latest windows",
    query=Latest,
)
def list_schedules(query: Latest) -> list[wire.ScheduledFeed]:
    from .feeds import list_feeds

    store = parts().store
    return [
        {
            "feed": feed["name"],
            "schedule": feed["schedule"],
            "activity": feed["activity"],
            "latest": schedule.windows_of(store, feed["name"], backfill=0, limit=query.each)[::-1]
            if feed["schedule"]["windows"]
            else [],
        }
        for feed in list_feeds()
        if feed["schedule"]["rule"] is not None
    ]


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/windows",
    "a feed's windows, newest first",
    query=WindowsPart,
    problems=(404,),
)
def feed_windows(feed: str, query: WindowsPart) -> list[wire.DueWindow]:
    require_feed(definitions.basket(parts().store), feed)
    return schedule.windows_of(parts().store, feed, state=query.state, backfill=query.backfill, limit=query.limit)


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/windows/retry",
    "run failed and skipped windows again",
    body=Range,
    problems=(404,),
)
def requeue_feed_windows(feed: str, body: Range) -> wire.Counted:
    require_feed(definitions.basket(parts().store), feed)
    count = schedule.requeue_windows(parts().store, feed, format_time(body.start), format_time(body.until))
    parts().scheduler.look(feed)
    return {"count": count}


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/backfills",
    "load a range of the past again, in windows, without moving the feed's cursor",
    status=201,
    body=BackfillParameters,
    problems=(404, 422),
)
def ask_backfill(feed: str, body: BackfillParameters) -> wire.Backfill:
    store = parts().store
    basket = definitions.basket(store)
    require_feed(basket, feed)
    if body.start >= body.until:
        raise BadRequest("asking for a backfill", feed, found="it ends before it begins", fix="give `from` before `until`")
    windows = []
    for begins, ends in islice(Grid(body.start, body.length).from_(body.start), _MOST_WINDOWS + 1):
        if begins >= body.until:
            break
        windows.append((format_time(begins), format_time(min(ends, body.until))))
    if len(windows) > _MOST_WINDOWS:
        raise BadRequest(
            "asking for a backfill", feed, found=f"more than {_MOST_WINDOWS:,} windows", fix="use a longer `length`"
        )
    _require_windows(feed, body)
    length = body.model_dump(mode="json")["length"]
    made = schedule.add_backfill(store, feed, length, windows, caller().name)
    parts().scheduler.look(feed)
    return schedule.backfills(store, backfill=made)[0]


def _require_windows(feed: str, body: BackfillParameters) -> None:
    """Check that at least one table is read by time. For a database that is known once it is open; its runs say which tables were left
    out.
    """
    order = resolve(
        definitions.basket(parts().store), feed, run=0, version=0, started=datetime.now(UTC), window=(body.start, body.until)
    )
    known = order.database is not None or order.asked is not None or any(order.window_of(table) for table in order.tables)
    if not known:
        raise BadRequest(
            "asking for a backfill",
            feed,
            found="none of its tables has windows of time: their changes are found by files, or by a cursor that is not a time",
            fix="rewind files with `reed rewind`",
            code="backfill.no_windows",
        )


@operations.add("GET", "/api/v1/backfills", "list backfills, newest first", query=FeedFilter)
def list_backfills(query: FeedFilter) -> list[wire.Backfill]:
    return schedule.backfills(parts().store, query.feed)


@operations.add("POST", "/api/v1/backfills/{backfill}/pause", "pause a backfill", problems=(404, 409))
def pause_backfill(backfill: int) -> wire.Backfill:
    return schedule.move_backfill(parts().store, backfill, "paused")


@operations.add("POST", "/api/v1/backfills/{backfill}/resume", "resume a paused backfill", problems=(404, 409))
def resume_backfill(backfill: int) -> wire.Backfill:
    moved = schedule.move_backfill(parts().store, backfill, "active")
    parts().scheduler.look(moved["feed"])
    return moved


@operations.add(
    "POST", "/api/v1/backfills/{backfill}/cancel", "cancel a backfill; its waiting windows are skipped", problems=(404, 409)
)
def cancel_backfill(backfill: int) -> wire.Backfill:
    return schedule.move_backfill(parts().store, backfill, "cancelled")


@operations.add(
    "GET",
    "/api/v1/notifications",
    "list notifications and their delivery status",
    query=NotificationsPart,
)
def list_notifications(query: NotificationsPart) -> list[wire.Notification]:
    return notifications.latest(parts().store, state=query.state, limit=query.limit)


@operations.add("POST", "/api/v1/notifications/retry", "retry undeliverable notifications")
def resend_notifications() -> wire.Counted:
    return {"count": notifications.send_again(parts().store)}
