"""What came in over time, as answers show it."""

from __future__ import annotations

from typing_extensions import TypedDict


class ActivityPart(TypedDict):
    """What ended from `at` on, for one step. written: rows inserted, updated, deleted and removed. runs, failed: how many ended."""

    at: str
    loads: int
    read: int
    written: int
    rejected: int
    bytes: int
    runs: int
    failed: int


class Activity(TypedDict):
    """The parts in order, empty ones too. feeds: {feed: rows written in each part}, those without any left out."""

    step_seconds: int
    parts: list[ActivityPart]
    feeds: dict[str, list[int]]
