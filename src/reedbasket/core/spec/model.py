"""The four kinds of definition, as pydantic models. A key not named here is a mistake.

Every default stands here and nowhere else; `reed plan --full` prints the filled-in result.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

import jmespath
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema, model_validator

from . import template
from .times import Duration


def _check_name(text: str) -> str:
    if not re.fullmatch(r"[a-z][a-z0-9_-]{0,62}", text):
        raise ValueError("a name is lower case: letters, digits, - and _, from a letter, at most 63")
    return text


def _check_template(text: str) -> str:
    template.parse(text)
    return text


def _check_path(text: str) -> str:
    try:
        jmespath.compile(text)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"not a JMESPath expression: {str(error).splitlines()[0]}") from None
    return text


def _scalar_text(value: Any) -> Any:
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int | float) else value


def _one_or_many(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


Name = Annotated[str, AfterValidator(_check_name)]
# The JSON Schemas say what may be written, which is more than what comes out of validation.
Template = Annotated[
    str,
    BeforeValidator(_scalar_text),
    AfterValidator(_check_template),
    WithJsonSchema({"type": ["string", "number", "boolean"]}),
]
RecordsPath = Annotated[str, AfterValidator(_check_path)]
Prefix = Annotated[str, Field(pattern=r"^([a-z][a-z0-9_]*)?$", max_length=40)]
# A column of ours to be, in a warehouse.
ColumnName = Annotated[str, Field(pattern=r"^([a-z][a-z0-9_]*\.)*[a-z][a-z0-9_]*$", max_length=63)]
ColumnList = Annotated[
    list[str],
    BeforeValidator(_one_or_many),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}),
]
KeyColumns = Annotated[
    list[str],
    BeforeValidator(_one_or_many),
    Field(min_length=1),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}),
]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True, validate_default=True)


class Setting(Model):
    """One thing that a source must fill in. Without a default it is required."""

    type: Literal["text", "url", "number", "time", "flag", "secret"] = "text"
    about: str = ""
    example: Any = None
    default: Any = None
    pattern: str | None = Field(None, description="a regular expression that the whole value must match")
    allowed: list[Any] | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Setting:
        if self.type == "secret" and self.default is not None:
            raise ValueError("a secret has no default: definitions never hold secrets")
        if self.pattern is not None:
            try:
                re.compile(self.pattern)
            except re.error as error:
                raise ValueError(f"pattern is not a regular expression: {error}") from None
        return self


class Basic(Model):
    """User and password in the Authorization header (RFC 7617)."""

    user: Template
    password: Template


class Auth(Model):
    """Exactly one of bearer, basic and key; a key goes by a header, a parameter or a cookie."""

    bearer: Template | None = Field(None, description="sent as `Authorization: Bearer …` (RFC 6750)")
    basic: Basic | None = None
    key: Template | None = Field(None, description="sent as `header`, `query` or `cookie` says")
    header: Annotated[str, Field(pattern=r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")] | None = None
    query: str | None = None
    cookie: Annotated[str, Field(pattern=r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")] | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Auth:
        ways = [name for name in ("bearer", "basic", "key") if getattr(self, name) is not None]
        if len(ways) != 1:
            raise ValueError("say one of bearer, basic and key" + (f", not {' and '.join(ways)}" if ways else ""))
        places = [name for name in ("header", "query", "cookie") if getattr(self, name) is not None]
        if len(places) != (1 if self.key is not None else 0):
            raise ValueError(
                "a key needs one of header, query and cookie" if self.key is not None else f"`{places[0]}` goes with `key`"
            )
        return self


class Pace(Model):
    """How fast a source may be asked, across all feeds, tables and processes together."""

    per_second: float | None = Field(None, gt=0, le=10_000)
    at_once: int = Field(4, ge=1, le=64)


class Timeouts(Model):
    """Seconds. `request` bounds one request as a whole, redirects and slow drips included."""

    connect: float = Field(10, gt=0, le=300)
    read: float = Field(60, gt=0, le=3600)
    request: float = Field(300, gt=0, le=7200)


class Retry(Model):
    """Pause before attempt n+1: first * 2^(n-1), at most `most`, each times a random 0.5 to 1.0."""

    attempts: int = Field(5, ge=1, le=20)
    first: Duration = Field(default="500ms")  # type: ignore[assignment]
    most: Duration = Field(default="60s")  # type: ignore[assignment]


_WAYS_TO_PAGE = ("token", "page", "offset", "link", "url", "last")


class NextPage(Model):
    """How the page after one is asked for. Exactly one of token, page, offset, link, url and last says it."""

    token: RecordsPath | None = Field(None, description="a token in the body (JMESPath), sent back as `as`")
    last: str | None = Field(None, description="the last record's value of this field, sent back as `as`")
    send_as: str | None = Field(None, alias="as", description="the parameter that sends the token or the last value")
    page: str | None = Field(None, description="the parameter that sends the page's number")
    offset: str | None = Field(None, description="the parameter that sends how many records to skip")
    start: int | None = Field(None, ge=0, description="the first page's number (1), or records to skip (0)")
    size: int | None = Field(None, ge=1, le=1_000_000, description="records a page; a shorter one is the last")
    size_as: str | None = Field(None, description="the parameter that sends `size`")
    link: str | None = Field(None, description="the relation in the Link header (RFC 8288) that leads on: next")
    url: RecordsPath | None = Field(None, description="the next page's address in the body (JMESPath), absolute or relative")

    @model_validator(mode="after")
    def _consistent(self) -> NextPage:
        ways = [name for name in _WAYS_TO_PAGE if getattr(self, name) is not None]
        if len(ways) != 1:
            raise ValueError(f"say one of {', '.join(_WAYS_TO_PAGE)}" + (f", not {' and '.join(ways)}" if ways else ""))
        sends = ways[0] in ("token", "last")
        if sends != (self.send_as is not None):
            raise ValueError(f"`{ways[0]}` {'needs' if sends else 'has no'} `as`, the parameter that sends it")
        counted = ways[0] in ("page", "offset")
        if not counted and (self.start is not None or self.size is not None or self.size_as is not None):
            raise ValueError(f"`start`, `size` and `size_as` go with `page` and `offset`, not with `{ways[0]}`")
        if self.size_as is not None and self.size is None:
            raise ValueError("`size_as` needs `size`, what it sends")
        return self


class CursorRule(Model):
    """How far a table has been taken, by a column that grows with every change."""

    column: str
    type: Literal["time", "number", "text"] = "time"
    start: Template | None = None
    overlap: Duration = Field(default="0s")  # type: ignore[assignment]
    sorted: bool = Field(False, description="records come in the order of this column: a long load may commit on the way")

    @model_validator(mode="after")
    def _consistent(self) -> CursorRule:
        if self.overlap and self.type != "time":
            raise ValueError(f"overlap is a duration, and needs a cursor of type time, not {self.type}")
        return self


class HttpTable(Model):
    """One endpoint that lists records."""

    get: Template
    about: str = ""
    send: dict[str, Template] = Field(default_factory=dict)
    records: RecordsPath = "@"
    total: RecordsPath | None = Field(None, description="where a page says how many records there are; for time left")
    next: NextPage | None = None
    key: KeyColumns | None = None
    cursor: CursorRule | None = None


class Connector(Model):
    connector: Name
    on: Literal["http"]
    about: str = ""
    settings: dict[str, Setting] = Field(default_factory=dict)
    base: Template
    auth: Auth | None = None
    headers: dict[str, Template] = Field(default_factory=dict)
    pace: Pace = Pace()
    timeouts: Timeouts = Timeouts()
    retry: Retry = Retry()
    tables: dict[Name, HttpTable] = Field(min_length=1)


class Source(Model):
    """That connector, filled in. A secret is given by name: `{secret: harbour_token}`."""

    source: Name
    connector: Name
    about: str = ""
    settings: dict[str, Any] = Field(default_factory=dict)


class Tls(Model):
    """How the way to a server is protected; the words are PostgreSQL's own (libpq, section 34.19)."""

    mode: Literal["disable", "require", "verify-ca", "verify-full"] = "require"
    root: str | None = Field(None, description="file with the certificates to trust; needed to verify")

    @model_validator(mode="after")
    def _consistent(self) -> Tls:
        if self.mode.startswith("verify") and not self.root:
            raise ValueError(f"mode {self.mode} needs `root`, a file with the certificates to trust")
        return self


class SecretName(Model):
    """A secret, by name; set with `reed secret set NAME`."""

    secret: Name


_ON_FILE = ("path",)
_ON_SERVER = ("host", "port", "database", "user", "password", "schema", "tls")


class Warehouse(Model):
    """path: on sqlite and duckdb. host, port, database, user, password, schema, tls: on postgres."""

    warehouse: Name
    on: Literal["sqlite", "duckdb", "postgres"]
    about: str = ""
    prefix: Prefix = Field("", description="before the name of every table loaded here")
    path: str | None = Field(None, min_length=1, description="a file; a relative path starts in the service's data folder")
    host: str | None = None
    port: int = Field(5432, ge=1, le=65535)
    database: str | None = None
    user: str | None = None
    password: SecretName | None = None
    schema_: Annotated[str, Field(pattern=r"^[a-z_][a-z0-9_]*$", max_length=63)] = Field("public", alias="schema")
    tls: Tls = Tls()

    @model_validator(mode="after")
    def _consistent(self) -> Warehouse:
        file = self.on != "postgres"
        needed = ("path",) if file else ("host", "database", "user")
        missing = [name for name in needed if getattr(self, name) is None]
        if missing:
            raise ValueError(f"on {self.on} needs {' and '.join(missing)}")
        fields = {"schema_" if name == "schema" else name: name for name in (_ON_SERVER if file else _ON_FILE)}
        extra = [name for field, name in fields.items() if field in self.model_fields_set]
        if extra:
            raise ValueError(f"on {self.on} knows no {' and no '.join(extra)}")
        return self


class Changes(Model):
    """How changes are found. compare: everything is read, and only what differs from the last time is written."""

    by: Literal["everything", "cursor", "compare"]


Write = Literal["append", "replace", "merge", "mirror", "history"]
Deletes = Literal["apply", "mark", "ignore"]


class Nesting(Model):
    """What becomes of objects and of lists of objects inside a record."""

    objects: Literal["columns", "json"] = "columns"
    lists: Literal["tables", "json"] = "tables"


class Drift(Model):
    """What happens when the source's structure differs from the one loaded before. tables: child tables, out of lists."""

    tables: Literal["accept", "ignore", "stop"] = "accept"
    columns: Literal["accept", "ignore", "stop"] = "accept"
    types: Literal["accept", "ignore", "stop", "reject"] = "accept"


class FeedDefaults(Model):
    changes: Changes | None = None
    write: Write | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None


Kind = Literal["bool", "int64", "double", "decimal", "text", "date", "timestamp", "json", "binary", "uuid"]
Expression = Annotated[str, BeforeValidator(_scalar_text), Field(min_length=1)]


class FeedTable(Model):
    """One table of a feed. The shaping keys are applied in the order in which they stand here, from `only` to `constants`;
    a child table's columns are named behind its own name, `passengers.email`."""

    changes: Changes | None = None
    write: Write | None = None
    key: KeyColumns | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None
    only: ColumnList | None = Field(None, description="take these columns and no others; the key is always taken")
    leave_out: ColumnList = Field(default_factory=list, description="columns, objects or child tables not to take")
    rename: dict[str, ColumnName] = Field(default_factory=dict, description="{column: its name in the warehouse}")
    cast: dict[str, Kind] = Field(default_factory=dict, description="{column: type}; a value that cannot be is a reject")
    compute: dict[ColumnName, Expression] = Field(
        default_factory=dict, description="{new column: SQL expression over the columns}"
    )
    hash: ColumnList = Field(default_factory=list, description="columns kept only as HMAC-SHA-256 of their text")
    keep: Expression | None = Field(None, description="rows to keep: an SQL condition over the columns")
    constants: dict[ColumnName, str | int | float | bool] = Field(default_factory=dict, description="{new column: value}")


class Feed(Model):
    """One source into one warehouse: the tables to bring, how changes are found, how they are written."""

    feed: Name
    about: str = ""
    source: Name = Field(alias="from")
    warehouse: Name = Field(alias="into")
    prefix: Prefix = ""
    defaults: FeedDefaults = Field(default_factory=FeedDefaults)
    tables: dict[Name, FeedTable | None] = Field(min_length=1)
    drift: Drift = Drift()
    stop_after: int | None = Field(None, ge=0, description="rejects of a run after which it fails; none: it never does")
    hash_with: Name = Field("column-hash", description="the secret that keys `hash`; made by itself where nobody set it")
    commit_every: int = Field(250_000, ge=1, description="rows after which a long load commits, where its position is safe")


KINDS: dict[str, type[Model]] = {"connector": Connector, "source": Source, "warehouse": Warehouse, "feed": Feed}
