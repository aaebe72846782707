"""Connectors on http, as pydantic models: the requests to an API, and how its answers are read.

Every default is defined here and nowhere else; `reed plan --full` prints the complete result.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, SerializeAsAny, model_validator

from . import regular_expression as expression_of_text
from .auth import Auth
from .fields import KeyColumns, Model, Name, RecordsPath, Template, Values
from .files import as_format
from .pagination import Pagination
from .python_runtime import Code
from .times import Duration, Step


class Setting(Model):
    """A value that a source has to fill in; required without a `default`. A `list` is several texts."""

    type: Literal["text", "url", "number", "time", "flag", "list", "secret"] = "text"
    description: str = ""
    example: Any = None
    default: Any = None
    pattern: str | None = Field(None, description="a regular expression that the whole value must match")
    allowed: list[Any] | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Setting:
        if self.type == "secret" and self.default is not None:
            raise ValueError("a secret has no default: definitions never hold secrets")
        if self.pattern is not None:
            why = expression_of_text.problem_of(self.pattern)
            if why:
                raise ValueError(f"pattern is not a regular expression: {why}")
        return self


class Pace(Model):
    """How fast a source may be asked, across all feeds, tables and processes together. What the source itself says in its answers
    (RateLimit fields, Retry-After) is obeyed as well.
    """

    per_second: float | None = Field(None, gt=0, le=10_000)
    burst: int = Field(1, ge=1, le=10_000, description="requests that may be sent at once after a pause")
    concurrency: int = Field(4, ge=1, le=64)
    per_hour: int | None = Field(None, ge=1, description="requests in any 60 minutes")
    per_day: int | None = Field(None, ge=1, description="requests in any 24 hours")


class Timeouts(Model):
    """Seconds. `total` limits one request as a whole, including redirects and slowly arriving answers."""

    connect: float = Field(10, gt=0, le=300)
    read: float = Field(60, gt=0, le=3600)
    total: float = Field(300, gt=0, le=7200)


class Retry(Model):
    """The pause before attempt n+1: first_wait * 2^(n-1), at most `max_wait`, each times a random 0.5 to 1.0.

    After `cooldown_after_failures` failures in a row, in whichever runs, no request is sent to the source for `cooldown`; twice as long
    after each further failure, at most 15 minutes.
    """

    attempts: int = Field(5, ge=1, le=20)
    first_wait: Duration = Field(default="500ms")  # type: ignore[assignment]
    max_wait: Duration = Field(default="60s")  # type: ignore[assignment]
    cooldown_after_failures: int = Field(10, ge=1, le=1000)
    cooldown: Duration = Field(default="5s")  # type: ignore[assignment]


class HeaderValue(Model):
    """A value in a header of the answer; the case of header names does not matter."""

    response_header: str = Field(min_length=1)


class CursorRule(Model):
    """How far a table has been read, by a column that grows with every change."""

    column: str
    type: Literal["time", "number", "text"] = "time"
    format: str | None = Field(
        None, description="the column's format for times: epoch, epoch_ms, or like %d.%m.%Y; by default ISO 8601"
    )
    start: Template | None = Field(None, alias="from", description="where the first read begins")
    until: Template | None = Field(None, description="records from this value on are not read")
    overlap: Duration = Field(default="0s")  # type: ignore[assignment]
    bound: Literal["inclusive", "exclusive", "none"] = Field(
        "inclusive",
        description="whether the API returns records that equal {cursor.from}; none: it ignores the bound",
    )
    sorted: bool = Field(False, description="records come in the order of this column, so a long load may commit on the way")

    @model_validator(mode="after")
    def _consistent(self) -> CursorRule:
        if self.overlap and self.type != "time":
            raise ValueError(f"overlap is a duration, so it needs a cursor of type time, not {self.type}")
        if self.format is not None and self.type != "time":
            raise ValueError(f"format is for times, so it needs a cursor of type time, not {self.type}")
        if self.bound == "exclusive" and self.type == "text":
            raise ValueError(
                "there is no step back from an exclusive bound of type text; use a parameter whose bound is `inclusive`"
            )
        return self


class WindowRule(Model):
    """Time ranges [from, until), each requested separately: {window.from} and {window.until}."""

    length: Step = Field(default=timedelta(days=1), description="a duration such as 1h or 7d, or month")
    start: Template = Field(alias="from", description="where the first window begins")
    delay: Duration = Field(default="0s", description="a window is requested once it ended this long ago")  # type: ignore[assignment]
    overlap: Duration = Field(default="0s", description="how far back each run reads again, for records that arrive late")  # type: ignore[assignment]


class Body(Model):
    """The body of a POST: exactly one of json, form and graphql. Texts in it are templates."""

    as_json: Any = Field(None, alias="json", description="a JSON value; a text that is a single {name} becomes that value")
    form: dict[str, Template] | None = Field(None, description="as an HTML form sends it")
    graphql: str | None = Field(None, description="a GraphQL query, sent with `variables`")
    variables: dict[str, Any] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _consistent(self) -> Body:
        ways = [w for w, there in (("json", self.as_json), ("form", self.form), ("graphql", self.graphql)) if there is not None]
        if len(ways) != 1:
            raise ValueError("give one of json, form and graphql" + (f", not {' and '.join(ways)}" if ways else ""))
        if self.variables and self.graphql is None:
            raise ValueError("`variables` go with `graphql`")
        return self


class Format(Model):
    """How a body is read if it is not JSON. `delimiter`, `quote` and `encoding` are for CSV."""

    type: Literal["json", "ndjson", "csv", "xml"] = "json"
    delimiter: str = Field(",", min_length=1, max_length=1)
    quote: str = Field('"', min_length=1, max_length=1)
    encoding: str = "utf-8"

    @model_validator(mode="after")
    def _consistent(self) -> Format:
        extra = sorted(self.model_fields_set - {"type"})
        if extra and self.type != "csv":
            raise ValueError(f"{self.type} has no {' or '.join(extra)}; csv has")
        return self


class ParentTable(Model):
    """The table for whose records another table is requested."""

    table: Name
    rows: Literal["all", "changed"] = Field("all", description="all of its records, or only those that changed")


class HttpTable(Model):
    """One endpoint that lists records: exactly one of get and post; neither for a connector in Python. With `own_position`, a connector in
    Python reports its own position.
    """

    get: Template | None = None
    post: Template | None = None
    description: str = ""
    query_params: dict[str, Template] = Field(
        default_factory=dict, description="query parameters; those without a value yet are left out"
    )
    headers: dict[str, Template] = Field(default_factory=dict)
    body: Body | None = None
    for_values: dict[Name, Values] = Field(
        default_factory=dict, description="{name: values}: one request for each value, which is {value.name}"
    )
    format: Annotated[Format, BeforeValidator(as_format)] = Format()
    records: RecordsPath = "@"
    total: RecordsPath | HeaderValue | None = Field(
        None, description="where a page says how many records there are in all; fewer are an error"
    )
    empty_on_status: list[int] = Field(default_factory=list, description="statuses that mean there are no records, such as 404")
    missing_means_empty: bool = Field(
        False, description="an answer without the list, or without a body, means that there are no records"
    )
    single_page: bool = Field(
        False, description="a single full page without a next one may be complete; otherwise such a page is doubted"
    )
    errors: RecordsPath | None = Field(
        "errors || error", description="where an answer contains an error, beside the records or in their place; null: nowhere"
    )
    pagination: SerializeAsAny[Pagination] | None = None
    primary_key: KeyColumns | None = None
    cursor: CursorRule | None = None
    window: WindowRule | None = None
    own_position: bool = False
    conditional_requests: bool = Field(False, description="send If-None-Match, so that an unchanged answer is not sent again")
    deleted_when: str | dict[str, str | int | bool] | None = Field(
        None, description="how a record says that it is deleted: a field that is set then, or {field: its value then}"
    )
    parent: ParentTable | None = Field(
        None, description="one request for each record of another table, whose fields are {parent.field}"
    )
    add_columns: dict[str, Template] = Field(default_factory=dict, description="{field: template}, added to each record")

    @model_validator(mode="after")
    def _consistent(self) -> HttpTable:
        if self.get is not None and self.post is not None:
            raise ValueError("give either `get` or `post`")
        if self.body is not None and self.post is None:
            raise ValueError("`body` goes with `post`")
        if self.pagination is not None and self.pagination.send_in == "body" and (self.post is None or self.body is None):
            raise ValueError("`in: body` needs `post` and a `body`")
        if self.conditional_requests and (self.pagination or self.for_values or self.parent or self.post is not None):
            raise ValueError("`conditional_requests` is for a single GET: without pagination, for_values, parent and post")
        if self.format.type == "csv" and self.records != "@":
            raise ValueError("`records` points into JSON or XML; every line of a CSV is a record")
        return self

    @property
    def parent_table(self) -> str | None:
        """The name of the parent table."""
        return self.parent.table if self.parent is not None else None

    @property
    def by_changed_parents(self) -> bool:
        """Whether only the children of changed parents are requested."""
        return self.parent is not None and self.parent.rows == "changed"

    @property
    def path(self) -> str:
        """The path of the request, whatever its method."""
        return self.get if self.get is not None else self.post or ""


class Connector(Model):
    """On http, everything is declared here. On python, the class that `code` names declares everything but `memory_limit` and
    `idle_timeout`; whatever is written here overrides it.
    """

    connector: Name
    type: Literal["http", "python"]
    code: str | None = Field(
        None,
        pattern=r"^([\w.-]+\.py(:\w+)?|[A-Za-z_][\w.]*:\w+|[A-Za-z_][\w-]*)$",
        description="type python: a file next to the definition, `lockers.py`; for installed code, the name under which a package "
        "publishes it, `lockers`, or `package.module:Class`",
    )
    program: str | None = Field(None, description="set by the service")
    described: bool = Field(False, description="set by the service")
    memory_limit: int = Field(400, ge=100, le=16_000, description="type python: the memory limit of its process, in MB")
    idle_timeout: Duration = Field(default="2m", description="type python: how long its process may yield nothing")  # type: ignore[assignment]
    description: str = ""
    settings: dict[str, Setting] = Field(default_factory=dict)
    base_url: Template
    auth: SerializeAsAny[Auth] | None = None
    headers: dict[str, Template] = Field(default_factory=dict)
    rate_limit: Pace = Pace()
    timeouts: Timeouts = Timeouts()
    retry: Retry = Retry()
    discover_tables: bool = Field(False, description="set by the service: its code asks the source for its tables")
    tables: dict[str, HttpTable] = Field(default_factory=dict)

    @property
    def runs(self) -> Code | None:
        """What its process needs; None for a declared connector."""
        if self.type == "http" or self.code is None:
            return None
        return Code(
            entry=self.code,
            program=self.program,
            memory_limit=self.memory_limit,
            idle_timeout=self.idle_timeout.total_seconds(),
        )
