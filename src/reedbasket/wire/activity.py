"""What was loaded over time, in API answers."""

from __future__ import annotations

from typing_extensions import TypedDict


class ActivityPart(TypedDict):
    """What ended within one step, from `at` on. `written`: rows inserted, updated, deleted and removed. `runs`, `failed`: how many runs
    ended, and failed.
    """

    at: str
    loads: int
    read: int
    written: int
    rejected: int
    bytes: int
    runs: int
    failed: int


class Activity(TypedDict):
    """The steps in order, empty ones included. `feeds`: {feed: rows written in each step}, without feeds that wrote nothing."""

    step_seconds: int
    parts: list[ActivityPart]
    feeds: dict[str, list[int]]
