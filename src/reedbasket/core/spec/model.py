"""Feeds, as pydantic models. Connectors are in `http.py`, sources in `source.py`, warehouses in `warehouse.py`.

Every default is defined here and nowhere else; `reed plan --full` prints the complete result.
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
    """How changes are found. `from` to `overlap` go with `window` and `cursor`: for an API they replace what the connector declares, for a
    database they declare it.

    full: everything is read, each time. cursor: records with a higher value in a column than was read before. window: each range of time
    once, when it is over. compare: everything is read, and only what differs from the last run is written. row_version: by the version
    that the database keeps of each row (postgres). cdc: change data capture, from the database's own change log (postgres, mysql). files:
    each file once, and again when it has changed. saved: by a position that a connector in Python saves.
    """

    by: Literal["full", "cursor", "window", "compare", "row_version", "cdc", "files", "saved"]
    column: KeyColumns | None = Field(None, description="databases: the cursor's column; of several, the greatest value counts")
    start: Template | None = Field(None, alias="from")
    length: Step | None = None
    delay: Duration | None = None
    overlap: Duration | None = None
    slot: Annotated[str, Field(pattern=r"^[a-z0-9_]{1,63}$")] | None = Field(
        None,
        description="cdc on postgres: the name of the replication slot; by default reed_ and the feed's name",
    )
    publication: Annotated[str, Field(min_length=1, max_length=63)] | None = Field(
        None, description="cdc on postgres: the name of the publication; by default the slot's"
    )

    stable_for: Duration | None = Field(
        None,
        description="files: how long a file must have been unchanged; by default 5s if files grow while they are written, otherwise 0",
    )
    ready_file: str | None = Field(
        None,
        min_length=1,
        description="files: a file that shows that another is complete, `{path}.done`; with {path}, {folder}, {name}",
    )
    changed: Literal["replace", "upsert", "append", "ignore"] | None = Field(
        None,
        description="files: what happens to the rows of a file that changed; by default upsert with a key, otherwise replace",
    )

    checksum: bool = Field(
        False,
        description="files: read all files in each run, and compare them by SHA-256 instead of size and time; "
        "for stores without ETags",
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
            raise ValueError(f"by: {self.by} does not have {words}")
        return self


Write = Literal["append", "replace", "upsert", "mirror", "versions"]
# Those that know one row a key.
KEYED: tuple[Write, ...] = ("upsert", "mirror", "versions")
Deletes = Literal["hard", "soft", "ignore"]


class Nesting(Model):
    """What happens to objects and to lists of objects inside a record."""

    objects: Literal["columns", "json"] = "columns"
    lists: Literal["child_tables", "json"] = "child_tables"


class OnDrift(Model):
    """What happens when the source's structure differs from the loaded one."""

    new_table: Literal["load", "ignore", "fail"] = Field(
        "load", description="child tables from lists; from a database, tables that a pattern did not match before"
    )
    new_column: Literal["load", "ignore", "fail"] = "load"
    missing_column: Literal["keep", "fail"] = Field(
        "keep",
        description="columns that every record had before and now none has: null from now on, or the run fails",
    )
    missing_table: Literal["keep", "fail"] = Field(
        "keep",
        description="tables that a pattern matched before and that no longer exist or may not be read; their rows stay",
    )
    changed_type: Literal["widen", "reject", "fail"] = Field(
        "widen", description="widen the column to a type that holds both, reject the records, or fail the run"
    )


class TableDefaults(Model):
    """What applies to all tables of a feed that do not say otherwise."""

    changes: Changes | None = None
    write: Write | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None


Kind = Literal["bool", "int64", "double", "decimal", "text", "date", "timestamp", "json", "binary", "uuid"]
Expression = Annotated[str, BeforeValidator(scalar_text), Field(min_length=1)]


class ParallelRead(Model):
    """A large table of a database, read in ranges of a column or of the rows' physical positions: several at once. An interrupted run
    resumes after the last committed range.
    """

    column: str | None = Field(
        None, min_length=1, description="a column; by default the key's first one, or physical blocks in PostgreSQL"
    )
    parts: int = Field(16, ge=1, le=1000)
    concurrency: int = Field(
        2, ge=1, le=8, description="how many tables are read at the same time, in one snapshot; 1 on mysql and sqlite"
    )


class FeedTable(Model):
    """One table of a feed. The keys about columns are applied in the order in which they are listed here, from `include_columns` to
    `constants`; a child table's columns are prefixed with its own name, `passengers.email`. `table`, `query`, `source_filter`,
    `exclude` and `parallel_read` are for databases only; `files`, `format`, `file_order`, `file_columns` and `copy` for file stores
    only.
    """

    table: str | None = Field(None, min_length=1, description="the database's name for it, if the feed's differs")
    query: str | None = Field(None, min_length=1, description="a query in the database's own SQL; :cursor_from is bound")
    source_filter: Expression | None = Field(None, description="an SQL condition with which the database itself selects rows")
    exclude: ColumnList = Field(default_factory=list, description="patterns of tables to exclude from this pattern")
    parallel_read: ParallelRead | None = Field(None, description="read a large table in ranges")
    files: ColumnList | None = Field(None, description="patterns of the files that are this table: `<landing>/counts-*.csv`")
    format: Format | None = Field(None, description="how they are read; by default their names decide")
    file_order: Literal["name", "time"] = Field("name", description="the order in which files are loaded")
    file_columns: FileColumns = Field(default=FileColumns(), description="columns that say where a record came from")
    copy_: CopyTo | None = Field(None, alias="copy", description="copy the files as they are, and list them in the table")
    derived: Derived | None = Field(None, description="a view or table derived from this one")
    changes: Changes | None = None
    write: Write | None = None
    primary_key: KeyColumns | None = None
    deletes: Deletes | None = None
    nesting: Nesting | None = None
    include_columns: ColumnList | None = Field(None, description="load only these columns; the key is always loaded")
    exclude_columns: ColumnList = Field(default_factory=list, description="columns, objects or child tables not to load")
    rename: dict[str, ColumnName] = Field(default_factory=dict, description="{column: its name in the warehouse}")
    cast: dict[str, Kind] = Field(
        default_factory=dict, description="{column: type}; a value that cannot be converted is rejected"
    )
    compute: dict[ColumnName, Expression] = Field(
        default_factory=dict, description="{new column: SQL expression over the columns}"
    )
    hash: ColumnList = Field(default_factory=list, description="columns that are stored only as HMAC-SHA-256 of their text")
    filter: Expression | None = Field(None, description="an SQL condition over the columns: which rows to load")
    constants: dict[ColumnName, str | int | float | bool] = Field(default_factory=dict, description="{new column: value}")


# Of an API the connector's name for it; of a database its table, `schema.table`, or a pattern: `yard.*`.
TableName = Annotated[str, Field(min_length=1, max_length=200)]


class Webhook(Model):
    """An address to which notifications are posted as CloudEvents. With `secret`, requests are signed (RFC 9421, hmac-sha256)."""

    url: str = Field(pattern=r"^https?://[^\s/]+", max_length=2000)
    secret: SecretName | None = None


What = Literal["failed", "recovered", "succeeded", "rejects", "drift", "late"]


class Notify(Model):
    """Who is notified of what. `failed`: once, until the feed has recovered; `late`: once, until it is fresh again."""

    events: list[What] = Field(default=["failed", "recovered"])
    email: Annotated[list[str], BeforeValidator(one_or_many)] = Field(default_factory=list)
    webhook: list[Webhook] = Field(default_factory=list)

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
    """One source into one warehouse, or several: which tables, how changes are found, how rows are written."""

    feed: Name
    description: str = ""
    source: Name = Field(alias="from")
    warehouse: Name = Field(alias="into")
    also: list[Name] = Field(default_factory=list, description="set by the service")
    table_prefix: Prefix = ""
    tables: dict[TableName, FeedTable | None] = Field(min_length=1)
    on_drift: OnDrift = OnDrift()
    max_rejects: Limit = Field(
        HALF,
        description="the number or share of rejects above which a table fails; it always fails if everything is rejected",
    )
    max_removed: Limit = Field(
        HALF,
        description="the number or share of a table's rows that one run may remove because the source no longer shows them",
    )
    hash_secret: Name = Field("column-hash", description="the secret key of `hash`; created if nobody has set it")
    schedule: Schedule | None = Field(None, description="when it runs automatically; by default only when somebody starts it")
    retry_runs: RunRetry = RunRetry()
    fresh_within: Duration | None = Field(None, description="how long after its last successful run the feed is late")
    notify: Notify | None = Field(None, description="who is notified of what; by default the service's own settings")
    variants: list[Variant] = Field(
        default_factory=list,
        description="one feed for each: values for {variant.name} here, and for settings of the source with the same name",
    )
    rows_per_commit: int = Field(250_000, ge=1, description="rows after which a long load commits, if its position allows that")

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
        """The values of this variant; empty if there are none."""
        return self.variants[0] if self.variants else {}

    @property
    def defaults(self) -> TableDefaults:
        """What it says about all its tables."""
        return TableDefaults(changes=self.changes, write=self.write, deletes=self.deletes, nesting=self.nesting)

    @property
    def warehouses(self) -> list[str]:
        """All warehouses that it loads into, in order."""
        return [self.warehouse, *self.also]


KINDS: dict[str, type[Model]] = {"connector": Connector, "source": Source, "warehouse": Warehouse, "feed": Feed}
