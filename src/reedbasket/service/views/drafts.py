"""Working with definitions that are not in force: they are checked, surveyed, previewed, tried and planned before anything is saved.

Like an applied definition, a draft may send any secret anywhere, so the caller has to be an editor.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ... import wire
from ..inspection import feeds as feed_inspection
from ..inspection import sources as inspection
from ..operations import Body
from .shared import inspect_in_process, operations


class Draft(Body):
    """The text of definitions that are not applied, and the source in it."""

    draft: Annotated[str, Field(description="YAML of definitions, which override those in force; may be empty")]
    source: str


class DraftSurvey(Draft):
    """Which tables to survey."""

    match: list[str] = Field(default_factory=list, description="patterns of the tables to show; by default all")
    exclude: list[str] = Field(default_factory=list, description="patterns of tables to exclude")


class DraftPreview(Draft):
    """How many rows of which table."""

    table: Annotated[str, Field(min_length=1, description="of an API or a database; for files, a path or a pattern")]
    rows: Annotated[int, Field(ge=1, le=200)] = 10


class DraftTry(Draft):
    """How many pages of which table."""

    table: Annotated[str, Field(min_length=1)]
    pages: Annotated[int, Field(ge=1, le=5)] = 1


class DraftPlan(Body):
    """Which feed to plan."""

    draft: Annotated[str, Field(min_length=1, description="YAML of definitions, which override those in force")]
    feed: str


_FAILS = (404, 409, 422, 502)


@operations.add(
    "POST", "/api/v1/draft/check", "test a drafted source step by step", body=Draft,
    problems=_FAILS, role="editor",
)  # fmt: skip
def check_draft(body: Draft) -> list[wire.CheckStep]:
    return inspect_in_process(inspection.check, body.source, draft=body.draft)


@operations.add(
    "POST", "/api/v1/draft/setup-sql", "the SQL that an administrator has to run for a drafted source",
    body=Draft, problems=_FAILS, role="editor",
)  # fmt: skip
def setup_sql_of_draft(body: Draft) -> list[wire.SetupStatement]:
    return inspect_in_process(inspection.setup, body.source, draft=body.draft)


@operations.add(
    "POST", "/api/v1/draft/survey", "list the tables of a drafted source", body=DraftSurvey,
    problems=_FAILS, role="editor",
)  # fmt: skip
def survey_draft(body: DraftSurvey) -> list[wire.SurveyedTable]:
    return inspect_in_process(inspection.surveyed, body.source, body.match, body.exclude, draft=body.draft)


@operations.add(
    "POST", "/api/v1/draft/preview", "the first records of a table of a drafted source", body=DraftPreview,
    problems=_FAILS, role="editor",
)  # fmt: skip
def preview_draft(body: DraftPreview) -> wire.Preview:
    return inspect_in_process(inspection.previewed, body.source, body.table, body.rows, exchanges=False, draft=body.draft)


@operations.add(
    "POST", "/api/v1/draft/try", "fetch the first pages of an API's table: requests, answers, and suggestions from them",
    body=DraftTry, problems=_FAILS, role="editor",
)  # fmt: skip
def try_draft(body: DraftTry) -> wire.TrialResult:
    return inspect_in_process(inspection.tried, body.source, body.table, body.pages, draft=body.draft)


@operations.add(
    "POST", "/api/v1/draft/plan", "what a run of a drafted feed would do", body=DraftPlan, problems=_FAILS,
    role="editor",
)  # fmt: skip
def plan_draft(body: DraftPlan) -> wire.Plan:
    return inspect_in_process(feed_inspection.planned, body.feed, draft=body.draft)
