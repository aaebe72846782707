"""Sources, warehouses and feeds, as pydantic models; connectors stand in `http.py`.

Every default stands here and nowhere else; `reed plan --full` prints the filled-in result.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator

from .fields import ColumnList, ColumnName, KeyColumns, Model, Name, Prefix, Template, scalar_text
from .http import Connector
from .times import Duration, Step


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
    """How changes are found. compare: everything is read, and only what differs from the last time is written. The other keys go
    with `window`, in place of what the connector says."""

    by: Literal["everything", "cursor", "window", "compare"]
    start: Template | None = Field(None, alias="from")
    step: Step | None = None
    lag: Duration | None = None
    overlap: Duration | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Changes:
        if self.by != "window" and self.model_fields_set - {"by"}:
            raise ValueError(f"from, step, lag and overlap go with `by: window`, not with `by: {self.by}`")
        return self


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
Expression = Annotated[str, BeforeValidator(scalar_text), Field(min_length=1)]


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
