"""Schedules, windows, backfills and notifications in API answers."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class Pause(TypedDict):
    """Since when and by whom a feed is paused."""

    paused_at: str
    paused_by: str


class FeedSchedule(TypedDict):
    """A feed's schedule. `rule`: as the definition says. `next_due`: null if it waits for another feed, or for nothing. `windows`: how
    many are in which state, for a schedule of windows.
    """

    rule: dict[str, Any] | None
    next_due: str | None
    paused: Pause | None
    windows: dict[str, int]


class ScheduledFeed(TypedDict):
    """A feed with a schedule, and its latest windows, the oldest first; none if it has no windows."""

    feed: str
    schedule: FeedSchedule
    activity: Literal["idle", "queued", "running"]
    latest: list[DueWindow]


class DueWindow(TypedDict):
    """One window, [begins, ends). `backfill`: that it belongs to; null for the schedule. `state`: waiting, queued (a run has it), done,
    failed, skipped.
    """

    id: int
    feed: str
    backfill: int | None
    begins: str
    ends: str
    state: Literal["waiting", "queued", "done", "failed", "skipped"]
    run: int | None
    due_at: str


class Backfill(TypedDict):
    """A backfill. `counts`: windows by state."""

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
    """How many there were."""

    count: int


class Notification(TypedDict):
    """A notification. `state`: waiting, sent, undeliverable; then `problem` says why."""

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
