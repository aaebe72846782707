"""Sources in API answers, and what they contain."""

from __future__ import annotations

from typing import Any

from typing_extensions import TypedDict

from .access import ErrorFacts
from .warehouses import Column


class FollowedLag(TypedDict):
    """How far a feed was behind the change log that it follows, when a run last read it. See wire.Lag."""

    feed: str
    at: str
    size: int
    seconds: float | None
    transactions: int


class Source(TypedDict):
    """A source. `database`: it is a database of the kind that `connector` says, and a survey shows its tables; `files`: the same for a
    file store. `discover_tables`: a connector in Python that asks the source for its tables.

    `settings`: as filled in, secrets by name. `signs_in`: how, in words. `person`: somebody has to sign in there. `signed_in`: somebody
    did, or there is a token. `rate_limit`: as declared. `asked_last_minute`: requests of its feeds' runs. `failures`: in a row, across
    all runs. `rests_until`: no request is sent before. `lags`: of feeds that follow its change log.
    """

    name: str
    description: str
    connector: str
    database: bool
    files: bool
    discover_tables: bool
    base_url: str
    settings: dict[str, Any]
    signs_in: str
    person: bool
    signed_in: bool
    tables: list[str]
    feeds: list[str]
    rate_limit: dict[str, Any]
    asked_last_minute: int
    failures: int
    rests_until: str | None
    lags: list[FollowedLag]


class SurveyedColumn(TypedDict):
    """A column, from a sample of its values."""

    name: str
    type: str
    nulls: int | None
    distinct: int | None
    examples: list[str]
    declared: str
    nullable: bool


class Method(TypedDict):
    """One way to find a table's changes, and what it misses or costs."""

    by: str
    misses: str


class SurveyedTable(TypedDict):
    """A surveyed table; see core.runs.inspection.look.SurveyedTable."""

    table: str
    description: str
    request: str
    records: int
    total: int | None
    columns: list[SurveyedColumn]
    lists: list[str]
    key: list[str]
    keys: list[str]
    cursor: str | None
    cursors: list[str]
    parent: str | None
    what: str
    readable: bool
    indexed: list[str]
    methods: list[Method]
    error: ErrorFacts | None


class SetupStatement(TypedDict):
    """One statement for an administrator. `sql`: empty if there is only something to say."""

    why: str
    sql: str


class Exchange(TypedDict):
    """One request and its answer, with secrets masked. Bodies are their first 16 KiB; `cut`: the answer's was longer."""

    method: str
    url: str
    headers: dict[str, str]
    body: str
    status: int
    answer_headers: dict[str, str]
    answer_body: str
    cut: bool


class Choice(TypedDict):
    """One suggestion for a definition, and the reason for it."""

    say: Any
    why: str


class Suggestion(TypedDict):
    """What an answer suggests, the most likely first."""

    records: list[Choice]
    total: list[Choice]
    pagination: list[Choice]
    key: list[Choice]
    cursor: list[Choice]


class TrialResult(TypedDict):
    """The result of trying out a table. `answer`: the last one as a tree, with shortened lists; null if it is not JSON. `pages`: the
    number of records on each page that was read. `error`: why it did not go on.
    """

    columns: list[Column]
    rows: list[list[Any]]
    exchanges: list[Exchange]
    answer: Any
    pages: list[int]
    suggested: Suggestion
    error: ErrorFacts | None


class SignInRedirect(TypedDict):
    """Where a person goes to sign in at a source."""

    url: str


class Preview(TypedDict):
    """The first records of a table. `rejects`: why records could not be shaped. `note`: for files, which file it is and how it was read."""

    columns: list[Column]
    rows: list[list[Any]]
    rejects: list[str]
    exchanges: list[Exchange]
    note: str
