"""Feeds, as pydantic models; connectors stand in `http.py`, sources in `source.py`, warehouses in `warehouse.py`.

Every default stands here and nowhere else; `reed plan --full` prints the filled-in result.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, field_validator, model_validator

from .database_address import SecretName
from .fields import ColumnList, ColumnName, KeyColumns, Model, Name, Prefix, Template, one_or_many, scalar_text
from .files import CopyTo, Derived, FileColumns, Format
from .http import Connector
from .limits import HALF, Limit
from .schedule import RunRetry, Schedule
from .source import Source
from .times import Duration, Step
from .warehouse import Warehouse


class Changes(Model):
    """How changes are found. `from` to `overlap` go with `window` and `cursor`: of an API they stand in place of what the connector says,
    of a database they say it.

    full: everything is read, each time.
    cursor: what has a higher value in a column than was read before.
    window: each range of time once, when it is over.
    compare: everything is read, and only what differs from the last time is written.
    row_version: by the version that the database keeps of each row (postgres).
    cdc: change data capture, from the database's own log of changes (postgres, mysql).
    files: each file once, and again where it changed.
    saved: by what a connector in Python saves of how far it is.
    """

    by: Literal["full", "cursor", "window", "compare", "row_version", "cdc", "files", "saved"]
    column: KeyColumns | None = Field(None, description="of a database: the column to go by; several are compared one by one")
    start: Template | None = Field(None, alias="from")
    length: Step | None = None
    delay: Duration | None = None
    overlap: Duration | None = None
    slot: Annotated[str, Field(pattern=r"^[a-z0-9_]{1,63}$")] | None = Field(
        None,
        description="by cdc on postgres: the name of its slot; reed_ and the feed's name where nothing is said",
    )
    publication: Annotated[str, Field(min_length=1, max_length=63)] | None = Field(
        None, description="by cdc on postgres: the name of the publication; the slot's where nothing is said"
    )

    stable_for: Duration | None = Field(
        None,
        description="by files: how long one has to have been still; 5s where files grow while they are written, else nothing",
    )
    ready_file: str | None = Field(
        None,
        min_length=1,
        description="by files: a file that says that another is whole, `{path}.done`; {path}, {folder}, {name}",
    )
    changed: Literal["replace", "upsert", "append", "ignore"] | None = Field(
        None, description="by files: what becomes of the rows of a file that changed; upsert where there is a key, else replace"
    )

    checksum: bool = Field(
        False,
        description="by files: each run reads all of them, and a file has changed where its SHA-256 has, whatever its size and time; "
        "for stores that know no ETag",
    )

    @model_validator(mode="after")
    def _consistent(self) -> Changes:
        allowed = {
            "files": {"stable_for", "ready_file", "changed", "checksum"},
            "cdc": {"slot", "publication"},
            "window": {"column", "start", "length", "delay", "overlap"},
            "cursor": {"column", "start", "overlap"},
        }
        extra = self.model_fields_set - {"by"} - allowed.get(self.by, set())
        if extra:
            words = ", ".join("from" if name == "start" else name for name in sorted(extra))
            raise ValueError(f"by: {self.by} knows no {words}")
        return self


Write = Literal["append", "replace", "upsert", "mirror", "versions"]
# Those that know one row a key.
KEYED: tuple[Write, ...] = ("upsert", "mirror", "versions")
Deletes = Literal["hard", "soft", "ignore"]


class Nesting(Model):
    """What becomes of objects and of lists of objects inside a record."""

    objects: Literal["columns", "json"] = "columns"
    lists: Literal["child_tables", "json"] = "child_tables"


class OnDrift(Model):
    """What happens when the source's structure differs from the one loaded before."""

    new_table: Literal["load", "ignore", "fail"] = Field(
        "load", description="child tables, out of lists; of a database those that a pattern did not match before"
    )
    new_column: Literal["load", "ignore", "fail"] = "load"
    missing_column: Literal["keep", "fail"] = Field(
        "keep",
        description="columns that came with every record before, and now with none: null from now on, or the run fails",
    )
    missing_table: Literal["keep", "fail"] = Field(
        "keep",
        description="tables that a pattern took before, and that are not there any more or may not be read: their rows are kept",
    )
    changed_type: Literal["widen", "reject", "fail"] = Field(
        "widen", description="the column is made one that holds both; or the records are rejected; or the run fails"
    )


class TableDefaults(Model):
    """What holds for those tables of a feed that say nothing else."""

    changes: Changes | None = None
    write: Write | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None


Kind = Literal["bool", "int64", "double", "decimal", "text", "date", "timestamp", "json", "binary", "uuid"]
Expression = Annotated[str, BeforeValidator(scalar_text), Field(min_length=1)]


class ParallelRead(Model):
    """A large table of a database, read in ranges of a column, or of where its rows lie: several at once, and a run that is cut goes on
    behind the last that was committed."""

    column: str | None = Field(None, min_length=1, description="a column; else the key's first, or blocks in PostgreSQL")
    parts: int = Field(16, ge=1, le=1000)
    concurrency: int = Field(
        2, ge=1, le=8, description="read at the same time, at most, in one snapshot; one on mysql and sqlite"
    )


class FeedTable(Model):
    """One table of a feed. The shaping keys are applied in the order in which they stand here, from `include_columns` to `constants`;
    a child table's columns are named behind its own name, `passengers.email`. table, query, source_filter, exclude, parallel_read: of a
    database alone. files, format, file_order, file_columns, copy: of a store of files alone."""

    table: str | None = Field(None, min_length=1, description="the database's own name for it, where the feed's is another")
    query: str | None = Field(None, min_length=1, description="an SQL query in the database's own words; :cursor_from is bound")
    source_filter: Expression | None = Field(None, description="an SQL condition that the database itself keeps rows by")
    exclude: ColumnList = Field(default_factory=list, description="patterns of tables that a pattern is not to take")
    parallel_read: ParallelRead | None = Field(None, description="read a large table in ranges")
    files: ColumnList | None = Field(None, description="patterns of the files that are this table: `<landing>/counts-*.csv`")
    format: Format | None = Field(None, description="how they are read; by their names where nothing is said")
    file_order: Literal["name", "time"] = Field("name", description="in which order files are taken")
    file_columns: FileColumns = Field(default=FileColumns(), description="columns for where a record came from")
    copy_: CopyTo | None = Field(None, alias="copy", description="copy the files as they are, and list them in the table")
    derived: Derived | None = Field(None, description="a view or table kept on top of this one")
    changes: Changes | None = None
    write: Write | None = None
    primary_key: KeyColumns | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None
    include_columns: ColumnList | None = Field(None, description="take these columns and no others; the key is always taken")
    exclude_columns: ColumnList = Field(default_factory=list, description="columns, objects or child tables not to take")
    rename: dict[str, ColumnName] = Field(default_factory=dict, description="{column: its name in the warehouse}")
    cast: dict[str, Kind] = Field(default_factory=dict, description="{column: type}; a value that cannot be is a reject")
    compute: dict[ColumnName, Expression] = Field(
        default_factory=dict, description="{new column: SQL expression over the columns}"
    )
    hash: ColumnList = Field(default_factory=list, description="columns kept only as HMAC-SHA-256 of their text")
    filter: Expression | None = Field(None, description="rows to keep: an SQL condition over the columns")
    constants: dict[ColumnName, str | int | float | bool] = Field(default_factory=dict, description="{new column: value}")


# Of an API the connector's name for it; of a database its table, `schema.table`, or a pattern: `yard.*`.
TableName = Annotated[str, Field(min_length=1, max_length=200)]


class Hook(Model):
    """An address that notifications are posted to, as CloudEvents. secret: the request is signed with it (RFC 9421, hmac-sha256)."""

    url: str = Field(pattern=r"^https?://[^\s/]+", max_length=2000)
    secret: SecretName | None = None


What = Literal["failed", "recovered", "succeeded", "rejects", "drift", "late"]


class Notify(Model):
    """Who hears of what. failed: once, until it recovered; late: once, until it is fresh again."""

    events: list[What] = Field(default=["failed", "recovered"])
    email: Annotated[list[str], BeforeValidator(one_or_many)] = Field(default_factory=list)
    webhook: list[Hook] = Field(default_factory=list)

    @field_validator("email")
    @classmethod
    def _addresses(cls, addresses: list[str]) -> list[str]:
        for address in addresses:
            # Whether it exists is for its server to say; what must not come through is another header line.
            if not re.fullmatch(r"[^@\s<>,;:]+@[^@\s<>,;:]+", address):
                raise ValueError(f"not a mail address: {address!r}")
        return addresses


Variant = dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$")], str | int | float | bool | list[str]]


class Feed(TableDefaults):
    """One source into one warehouse, or several: the tables to bring, how changes are found, how they are written. also: the warehouses
    behind the first of a list in `into`."""

    feed: Name
    description: str = ""
    source: Name = Field(alias="from")
    warehouse: Name = Field(alias="into")
    also: list[Name] = Field(default_factory=list, description="put there by us")
    table_prefix: Prefix = ""
    tables: dict[TableName, FeedTable | None] = Field(min_length=1)
    on_drift: OnDrift = OnDrift()
    max_rejects: Limit = Field(
        HALF,
        description="rejects of a table's run beyond which it fails, a number or a share; where all are rejected it always does",
    )
    max_removed: Limit = Field(
        HALF, description="rows of a table that one run may remove because the source no longer shows them, a number or a share"
    )
    hash_secret: Name = Field("column-hash", description="the secret that keys `hash`; made by itself where nobody set it")
    schedule: Schedule | None = Field(
        None, description="when it runs by itself; only when somebody asks, where nothing is said"
    )
    retry_runs: RunRetry = RunRetry()
    fresh_within: Duration | None = Field(None, description="how long ago a run may have succeeded before the feed is late")
    notify: Notify | None = Field(None, description="who hears of what; the service's own settings where nothing is said")
    variants: list[Variant] = Field(
        default_factory=list,
        description="a feed for each: values for {variant.name} here, and for settings of the source that have the name",
    )
    rows_per_commit: int = Field(250_000, ge=1, description="rows after which a long load commits, where its position is safe")

    @model_validator(mode="before")
    @classmethod
    def _several(cls, data: Any) -> Any:
        """`into: [marsh, marsh_duck]` is the first, and the others."""
        into = data.get("into") if isinstance(data, dict) else None
        if not isinstance(into, list) or not into:
            return data
        if len(set(map(str, into))) < len(into):
            raise ValueError("`into` names a warehouse twice")
        return {**data, "into": into[0], "also": into[1:]}

    @property
    def variant(self) -> Variant:
        """The values of this one; nothing where it has no variants."""
        return self.variants[0] if self.variants else {}

    @property
    def defaults(self) -> TableDefaults:
        """What it says of all its tables."""
        return TableDefaults(changes=self.changes, write=self.write, deletes=self.deletes, nesting=self.nesting)

    @property
    def warehouses(self) -> list[str]:
        """All that it loads into, in order."""
        return [self.warehouse, *self.also]


KINDS: dict[str, type[Model]] = {"connector": Connector, "source": Source, "warehouse": Warehouse, "feed": Feed}
