"""Schedules, windows, backfills and notifications, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class Pause(TypedDict):
    """Since when and by whom a feed is paused."""

    paused_at: str
    paused_by: str


class FeedSchedule(TypedDict):
    """rule: as the definition says it. next_due: null where it waits for another feed, or for nothing. windows: how many are in which
    state, where the schedule goes by windows."""

    rule: dict[str, Any] | None
    next_due: str | None
    paused: Pause | None
    windows: dict[str, int]


class ScheduledFeed(TypedDict):
    """A feed that runs by itself, with the latest windows of its schedule, the oldest first; none where it has no windows."""

    feed: str
    schedule: FeedSchedule
    activity: Literal["idle", "queued", "running"]
    latest: list[DueWindow]


class DueWindow(TypedDict):
    """One window, [begins, ends). backfill: the number of the backfill it belongs to; None of the schedule. state:
    waiting, queued (a run has it), done, failed, skipped."""

    id: int
    feed: str
    backfill: int | None
    begins: str
    ends: str
    state: Literal["waiting", "queued", "done", "failed", "skipped"]
    run: int | None
    due_at: str


class Backfill(TypedDict):
    """counts: windows by state."""

    id: int
    feed: str
    begins: str
    ends: str
    length: str
    state: Literal["active", "paused", "done", "cancelled"]
    asked_at: str
    asked_by: str
    windows: int
    counts: dict[str, int]


class Counted(TypedDict):
    """How many were moved."""

    count: int


class Notification(TypedDict):
    """What somebody is to hear, or has heard. state: waiting, sent, undeliverable; then `problem` says why."""

    id: int
    at: str
    event: Literal["failed", "recovered", "succeeded", "rejects", "drift", "late"]
    feed: str
    run: int | None
    channel: Literal["email", "webhook"]
    goes_to: str
    state: Literal["waiting", "sent", "undeliverable"]
    tries: int
    next_at: str
    problem: str
    sent_at: str | None
