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


class Auth(Model):
    bearer: Template = Field(description="sent as `Authorization: Bearer …` (RFC 6750)")


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


class NextPage(Model):
    """The next page's address: the token found at `token` (JMESPath) is sent as the parameter `as`."""

    token: RecordsPath
    send_as: str = Field(alias="as")


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


class Warehouse(Model):
    warehouse: Name
    on: Literal["sqlite"]
    about: str = ""
    path: str = Field(min_length=1, description="a file; a relative path starts in the service's data folder")


class Changes(Model):
    """How changes are found."""

    by: Literal["everything", "cursor"]


Write = Literal["append", "replace", "merge"]


class FeedDefaults(Model):
    changes: Changes | None = None
    write: Write | None = None


class FeedTable(Model):
    changes: Changes | None = None
    write: Write | None = None
    key: KeyColumns | None = None


class Feed(Model):
    """One source into one warehouse: the tables to bring, how changes are found, how they are written."""

    feed: Name
    about: str = ""
    source: Name = Field(alias="from")
    warehouse: Name = Field(alias="into")
    prefix: Annotated[str, Field(pattern=r"^([a-z][a-z0-9_]*)?$", max_length=40)] = ""
    defaults: FeedDefaults = Field(default_factory=FeedDefaults)
    tables: dict[Name, FeedTable | None] = Field(min_length=1)
    commit_every: int = Field(250_000, ge=1, description="rows after which a long load commits, where its position is safe")


KINDS: dict[str, type[Model]] = {"connector": Connector, "source": Source, "warehouse": Warehouse, "feed": Feed}
