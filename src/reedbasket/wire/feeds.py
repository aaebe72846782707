"""Feeds in API answers: their state, plans, drift, rejects."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

from .access import ErrorFacts
from .runs import Run
from .schedule import FeedSchedule


class FileLine(TypedDict):
    """One file of a feed's table. `state`: loaded; failed (it could not be read to its end, see `problem`); ignored (it changed, and
    the feed keeps what is loaded); missing (no longer at the source, its rows stay); requeued (the next run loads it again). `load`:
    that loaded its rows. `warehouse`: each warehouse of a feed has its own.
    """

    warehouse: str
    table: str
    number: int
    path: str
    size: int
    modified: str
    tag: str
    state: str
    rows: int
    rejected: int
    load: int | None
    at: str
    problem: str


class RequeuedFiles(TypedDict):
    """How many files the next run loads again."""

    files: int


class RewoundCursor(TypedDict):
    """A table's cursor, moved back, or as it would be: where it was, and where the next run continues from (null: the beginning). The
    rest is what that run would read, if this was a dry run and the source can tell.
    """

    table: str
    was: str
    now: str | None
    records: int | None
    requests: int | None
    seconds: float | None


class Feed(TypedDict):
    """A feed. `activity`: idle, queued or running. `fresh_at`: when a run last succeeded. `late`: that is longer ago than
    `fresh_within` allows. `also`: further warehouses. `drift`: changes of structure that the last run found.
    """

    name: str
    description: str
    version: int
    source: str
    connector: str
    warehouse: str
    also: list[str]
    tables: list[str]
    activity: Literal["idle", "queued", "running"]
    last_run: Run | None
    fresh_at: str | None
    rejects: int
    drift: int
    schedule: FeedSchedule
    fresh_within_seconds: float | None
    late: bool
    variant: dict[str, Any]


class VerifiedSample(TypedDict):
    """A row that differs. `values`: {column: [the source's, the warehouse's]}."""

    what: str
    key: list[Any]
    values: dict[str, list[Any]]


class VerifiedTable(TypedDict):
    """The comparison of one table; see core.runs.inspection.verify.VerifiedTable."""

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


class Drift(TypedDict):
    """A change of the source's structure. `what`: table, column, type, vanished, returned."""

    id: int
    feed: str
    warehouse: str
    source_table: str
    run: int
    at: str
    what: Literal["table", "column", "type", "vanished", "returned"]
    table: str
    column: str
    words: str
    ignored: bool


class Reject(TypedDict):
    """A rejected record. `record`: JSON text, as it was received. `warehouse`: which rejected it; '' if an older version did not record
    it.
    """

    id: int
    feed: str
    warehouse: str
    source_table: str
    run: int
    at: str
    code: str
    message: str
    field: str
    record: str
    times: int


class PlannedColumn(TypedDict):
    """A column that would be created."""

    name: str
    type: str


class PlannedDrift(TypedDict):
    """A change of structure that a run would find."""

    what: str
    words: str
    ignored: bool


class PlanWarning(TypedDict):
    """Something that a run cannot see, or that looks wrong with the first page."""

    code: str
    words: str


class PlannedTable(TypedDict):
    """A planned table; see core.runs.inspection.plan.PlannedTable."""

    source_table: str
    table: str
    warehouse: str
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
    warnings: list[PlanWarning]
    steps: list[str]
    losses: list[str]
    records: int | None
    requests: int | None
    seconds: float | None
    only_nulls: list[str]
    unmatched: list[str]
    error: ErrorFacts | None


class Plan(TypedDict):
    """A plan. `full`: the feed with every default filled in."""

    feed: str
    version: int
    warehouse: str
    tables: list[PlannedTable]
    ignored: list[str]
    full: dict[str, Any]
