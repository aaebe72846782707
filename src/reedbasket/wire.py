"""The shapes of API answers. The service's OpenAPI document and the console's types are made from them.

Times are RFC 3339 text in UTC. Imports nothing of ours; the client only needs it for type checking.
"""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

Outcome = Literal["queued", "running", "succeeded", "failed", "cancelled", "interrupted"]


class Health(TypedDict):
    status: Literal["ok"]
    version: str


class ErrorFacts(TypedDict):
    """What core.errors.ReedError holds."""

    code: str
    doing: str
    on: str
    found: str
    mend: str
    retryable: bool
    wait_seconds: float | None
    details: Any


class Applied(TypedDict):
    kind: str
    name: str
    version: int
    change: Literal["new", "changed", "same"]


class Definition(TypedDict):
    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str


class SecretName(TypedDict):
    name: str
    changed_at: str


class TableProgress(TypedDict):
    """phase: waiting, reading, committing, done, failed or skipped. Counts are records of the source's table."""

    table: str
    target: str
    phase: Literal["waiting", "reading", "committing", "done", "failed", "skipped"]
    read: int
    staged: int
    loaded: int
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
    error: ErrorFacts | None


class Totals(TypedDict):
    read: int
    staged: int
    loaded: int
    repeated: int
    held_back: int
    rejected: int
    unchanged: int
    filtered: int
    requests: int
    source_bytes: int


class Run(TypedDict):
    id: int
    feed: str
    feed_version: int
    outcome: Outcome
    requested_at: str
    started_at: str | None
    ended_at: str | None
    resumes: int | None
    accept: bool
    again: bool
    error: ErrorFacts | None
    totals: Totals
    tables: list[TableProgress]


class Feed(TypedDict):
    """activity: idle, queued or running. fresh_at: when a run last succeeded."""

    name: str
    about: str
    version: int
    source: str
    connector: str
    warehouse: str
    tables: list[str]
    activity: Literal["idle", "queued", "running"]
    last_run: Run | None
    fresh_at: str | None
    rejects: int


class LogLine(TypedDict):
    number: int
    at: str
    level: Literal["info", "warning", "error"]
    code: str
    table: str | None
    message: str
    data: dict[str, Any] | None


class LedgerLine(TypedDict):
    """One load into one warehouse table; see core.load.ledger.LedgerLine."""

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


class VerifiedSample(TypedDict):
    """values: {column: [the source's, the warehouse's]}, those that differ."""

    what: str
    key: list[Any]
    values: dict[str, list[Any]]


class VerifiedTable(TypedDict):
    """See core.run.verify.VerifiedTable."""

    source_table: str
    table: str
    deep: bool
    source: int
    warehouse: int
    only_source: int | None
    only_warehouse: int | None
    differing: int | None
    rejected: int
    filtered: int
    same: bool
    lacking: list[str]
    samples: list[VerifiedSample]
    error: ErrorFacts | None


class CheckStep(TypedDict):
    """ok: null where the step was not reached. mend: ready to be pasted."""

    step: str
    ok: bool | None
    found: str
    mend: str


class ColumnProfile(TypedDict):
    name: str
    type: str
    nulls: int
    distinct: int
    min: str | None
    max: str | None
    examples: list[str]


class Profile(TypedDict):
    table: str
    rows: int
    columns: list[ColumnProfile]


class Drift(TypedDict):
    """One difference between the structure expected and the one met. what: table, column, type, vanished, returned."""

    id: int
    feed: str
    source_table: str
    run: int
    at: str
    what: Literal["table", "column", "type", "vanished", "returned"]
    table: str
    column: str
    words: str
    ignored: bool


class Reject(TypedDict):
    """record: JSON text, as received."""

    id: int
    feed: str
    source_table: str
    run: int
    at: str
    code: str
    message: str
    field: str
    record: str
    times: int


class PlannedColumn(TypedDict):
    name: str
    type: str


class PlannedDrift(TypedDict):
    what: str
    words: str
    ignored: bool


class PlannedTable(TypedDict):
    """See core.run.plan.PlannedTable."""

    source_table: str
    table: str
    parent: str | None
    exists: bool
    columns: list[PlannedColumn]
    new_columns: list[PlannedColumn]
    by: str
    write: str
    key: list[str]
    cursor_from: str | None
    cursor_until: str | None
    request: str
    sample_records: int
    sample_rejects: int
    sample_filtered: int
    deletes: str
    drift: list[PlannedDrift]
    steps: list[str]
    losses: list[str]
    records: int | None
    requests: int | None
    seconds: float | None
    only_nulls: list[str]
    unmatched: list[str]
    error: ErrorFacts | None


class Plan(TypedDict):
    """full: the feed with every default filled in."""

    feed: str
    version: int
    warehouse: str
    tables: list[PlannedTable]
    ignored: list[str]
    full: dict[str, Any]


class Warehouse(TypedDict):
    name: str
    on: str
    about: str
    where: str


class Column(TypedDict):
    name: str
    type: str


class Table(TypedDict):
    name: str
    columns: list[Column]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None


class Rows(TypedDict):
    """Integers beyond 2^53 come as text, since a browser would round them; bytes as hexadecimal text."""

    columns: list[Column]
    rows: list[list[Any]]
    truncated: bool
    seconds: float


class SignInCode(TypedDict):
    code: str
    url: str


class Session(TypedDict):
    signed_in: bool


class Problem(TypedDict):
    """RFC 9457. `code` is stable; `mistakes` only for definitions."""

    type: str
    title: str
    status: int
    detail: str
    code: str
    doing: str
    on: str
    found: str
    mend: str
    details: Any
