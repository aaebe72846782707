"""Sources and what they offer, as answers show them."""

from __future__ import annotations

from typing import Any

from typing_extensions import TypedDict

from .access import ErrorFacts
from .warehouses import Column


class FollowedLag(TypedDict):
    """How far a feed was behind the log that it follows, when a run of it last read it. See wire.Lag."""

    feed: str
    at: str
    size: int
    seconds: float | None
    transactions: int


class Source(TypedDict):
    """database: a database and no connector; `connector` says of what kind, and tables are known by a survey alone. files: the same of
    a store of files; discover_tables: of a connector in Python that asks the source which tables there are.

    settings: as filled in, secrets by name. signs_in: how, in words; person: whether somebody has to sign in there, signed_in:
    whether somebody did, or a token is held. rate_limit: what the connector says, concurrency and so on. asked_last_minute: requests
    that its feeds' runs sent. failures: in a row, across all who
    ask; rests_until: nobody asks before. lags: of feeds that follow its log."""

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
    """A column, by some of its values."""

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
    """See core.runs.inspection.look.SurveyedTable."""

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
    """One statement for an administrator. sql: empty where there is only something to say."""

    why: str
    sql: str


class Exchange(TypedDict):
    """One request and its answer, secrets blanked. Bodies are their first 16 KiB; cut: the answer's was longer."""

    method: str
    url: str
    headers: dict[str, str]
    body: str
    status: int
    answer_headers: dict[str, str]
    answer_body: str
    cut: bool


class Choice(TypedDict):
    """One way to say something in a definition, and what speaks for it."""

    say: Any
    why: str


class Suggested(TypedDict):
    """What an answer suggests, the likeliest first."""

    records: list[Choice]
    total: list[Choice]
    pagination: list[Choice]
    key: list[Choice]
    cursor: list[Choice]


class Tried(TypedDict):
    """answer: the last one as a tree, lists cut to their first items; null where it is no JSON. pages: records on each page that was
    read. error: why it went no further."""

    columns: list[Column]
    rows: list[list[Any]]
    exchanges: list[Exchange]
    answer: Any
    pages: list[int]
    suggested: Suggested
    error: ErrorFacts | None


class SentThere(TypedDict):
    """Where a person goes to sign in at a source."""

    url: str


class Preview(TypedDict):
    """rejects: why records could not be shaped. note: of files, which one this is and how it was read."""

    columns: list[Column]
    rows: list[list[Any]]
    rejects: list[str]
    exchanges: list[Exchange]
    note: str
