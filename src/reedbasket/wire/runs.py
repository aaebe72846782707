"""Runs and what they leave behind, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

from .access import ErrorFacts

Outcome = Literal["queued", "running", "succeeded", "failed", "cancelled", "interrupted"]


class Lag(TypedDict):
    """How far a database's log was ahead. seconds: since the oldest change that waits was committed; null where nothing waits."""

    size: int
    seconds: float | None
    transactions: int


class TableProgress(TypedDict):
    """phase: waiting, reading, committing, done, failed or skipped. Counts are records of the source's table. lag: of one that
    follows a log, as the run found it. warehouse: '' for the feed's first; of a feed into several, which of the others."""

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
    """due_at: when its schedule wanted it to begin. not_before: it waits until then. window: [from, until), what it takes of tables
    that know times. backfill: the number of the backfill whose window it takes. sets: in place of the variant's values and of
    settings, for this run. bodies: what went over the wire is kept. extract: its records become files, and no rows."""

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
    """One request of a run. The URL is masked; status is null where no answer came. seconds: until the answer was whole;
    waited_seconds: for a turn before it; pause_seconds: before the next attempt. kept: what went over the wire can be looked at."""

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
    """How far a run was: seconds since it began, records read and bytes received until then."""

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
