"""Runs in API answers, and what they leave behind."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

from .access import ErrorFacts

Outcome = Literal["queued", "running", "succeeded", "failed", "cancelled", "interrupted"]


class Lag(TypedDict):
    """How far a change log was ahead. `seconds`: since the oldest waiting change was committed; null if nothing is waiting."""

    size: int
    seconds: float | None
    transactions: int


class TableProgress(TypedDict):
    """The progress of one table. `phase`: waiting, reading, committing, done, failed or skipped. Counts are of the source table's
    records. `lag`: of a change log, when the run read it. `warehouse`: '' for the feed's first.
    """

    table: str
    target: str
    warehouse: str
    phase: Literal["waiting", "reading", "committing", "done", "failed", "skipped"]
    read: int
    staged: int
    inserted: int
    updated: int
    deleted: int
    repeated: int
    held_back: int
    rejected: int
    unchanged: int
    filtered: int
    requests: int
    source_bytes: int
    waited_seconds: float
    waiting: str
    expected: int | None
    cursor_from: str | None
    cursor_to: str | None
    seconds: float
    lag: Lag | None
    error: ErrorFacts | None


class Totals(TypedDict):
    """Counts over all tables of a run."""

    read: int
    staged: int
    inserted: int
    updated: int
    deleted: int
    repeated: int
    held_back: int
    rejected: int
    unchanged: int
    filtered: int
    requests: int
    source_bytes: int


class Run(TypedDict):
    """A run. `due_at`: when its schedule wanted it to start. `not_before`: it waits until then. `window`: [from, until) for tables that
    know times. `backfill`: the backfill whose window it loads. `sets`: overrides values of the variant and settings. `bodies`: bytes
    of requests and answers are recorded. `extract`: its records become files instead of rows.
    """

    id: int
    feed: str
    feed_version: int
    outcome: Outcome
    requested_at: str
    started_at: str | None
    ended_at: str | None
    resumes: int | None
    allow_loss: bool
    replay: bool
    trigger: Literal["manual", "schedule", "window", "upstream", "backfill", "retry"]
    asked_by: str
    due_at: str | None
    not_before: str | None
    attempt: int
    window: list[str] | None
    backfill: int | None
    sets: dict[str, Any]
    bodies: bool
    extract: bool
    error: ErrorFacts | None
    totals: Totals
    tables: list[TableProgress]


class LogLine(TypedDict):
    """A line of a run's log."""

    number: int
    at: str
    level: Literal["info", "warning", "error"]
    code: str
    table: str | None
    message: str
    data: dict[str, Any] | None


class RequestLine(TypedDict):
    """One request of a run. The URL is masked; `status` is null if no answer came. `seconds`: until the answer was complete.
    `waited_seconds`: for its turn before that. `pause_seconds`: before the next attempt. `kept`: what was sent and received was
    recorded.
    """

    number: int
    at: str
    table: str
    method: str
    url: str
    status: int | None
    bytes: int
    seconds: float
    waited_seconds: float
    attempt: int
    problem: str
    pause_seconds: float
    pause_reason: str
    kept: bool


class PaceSample(TypedDict):
    """How far a run was: seconds since its start, records read and bytes received until then."""

    seconds: float
    read: int
    bytes: int


class LedgerLine(TypedDict):
    """One load into one warehouse table; see core.records.ledger.LedgerLine."""

    warehouse: str
    load: int
    run: int
    feed: str
    source: str
    source_table: str
    table: str
    write: str
    read: int
    staged: int
    inserted: int
    updated: int
    deleted: int
    unchanged: int
    superseded: int
    rejected: int
    removed: int
    repeated: int
    cursor_from: str | None
    cursor_to: str | None
    source_bytes: int
    started: str
    ended: str
    filtered: int
    reading_seconds: float
    shaping_seconds: float
    staging_seconds: float
    committing_seconds: float
    reconciles: bool
