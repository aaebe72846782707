"""Everything one run needs, resolved, with secrets by name. It can travel to another process as JSON."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any

from pydantic import Field, SerializeAsAny

from ...errors import NotFound
from ...shaping.rules import DriftPolicy, ShapeRules
from ...spec.auth import Auth
from ...spec.basket import Basket
from ...spec.fields import Model
from ...spec.file_source import FileSource
from ...spec.http import Connector, CursorRule, HttpTable, Pace, Retry, Timeouts, WindowRule
from ...spec.limits import HALF, Limit
from ...spec.model import Deletes, Feed, FeedTable, Nesting, OnDrift, TableDefaults, Write
from ...spec.python_runtime import Code
from ...spec.source import DatabaseSource, Source
from ...spec.table_choice import TableChoice, table_choice
from ...spec.times import parse_time
from ...spec.warehouse import Warehouse


class ResolvedTable(Model):
    """One table of a run.

    Attributes:
        rule: how to request it from an API; for a database this is known once it is open (table_selection.ChosenTable).
        by_pattern: it matched a pattern and is not named.
        by_file: rows say which file they came from.
        checksum: files are identified by their content.
    """

    name: str
    target: str
    rule: HttpTable | None = None
    by: str
    cursor: CursorRule | None = None
    window: WindowRule | None = None
    write: Write
    key: list[str]
    deletes: Deletes = "hard"
    nesting: Nesting = Nesting()
    shaping: FeedTable = FeedTable()
    by_pattern: bool = False
    by_file: bool = False
    checksum: bool = False

    def rules(self, drift: OnDrift) -> ShapeRules:
        """What the feed says about the table's shape, for the shaper."""
        own = self.shaping
        return ShapeRules(
            only=frozenset(own.include_columns) if own.include_columns is not None else None,
            exclude_columns=frozenset(own.exclude_columns),
            rename=own.rename,
            cast=dict(own.cast),
            compute=own.compute,
            hash=frozenset(own.hash),
            keep=own.filter,
            constants=own.constants,
            objects=self.nesting.objects,
            lists=self.nesting.lists,
            drift=DriftPolicy(drift.new_table, drift.new_column, drift.missing_column, drift.changed_type),
        )

    @property
    def complete(self) -> bool:
        """Whether a run reads everything that the source shows."""
        return self.by in ("full", "compare")

    @property
    def removes(self) -> bool:
        """Whether rows that a run does not bring are deleted from the warehouse, marked, or ended."""
        return self.by == "compare" or (self.complete and self.write in ("replace", "mirror", "versions"))

    @property
    def whole(self) -> bool:
        """Whether a run writes either everything that the source shows or nothing."""
        return self.removes or (self.complete and self.write == "append")

    @property
    def newest_by(self) -> str | None:
        """The field that tells the newest of several records with one key."""
        cursor = self.rule.cursor if self.rule else self.cursor
        return cursor.column if cursor else None

    @property
    def link(self) -> Any:
        """What child rows refer to: the parent's key, or the parent's row if there is no key or rows of one key may repeat."""
        return "row" if self.write == "append" or not self.key else "key"


class ResolvedSource(Model):
    """Everything needed to read one source.

    Attributes:
        database: the database's settings; nothing of a connector is set then.
        files: the file store's settings; nothing of a connector is set then.
        stores: those that the feed's files are copied to.
        window: [from, until) to read of tables that know times; saved cursors are then left alone.
        code: of a connector in Python.
        asked: what a connector in Python declares of tables that only the source knows; `tables` has them once it was asked.
        bodies: record the bytes of requests and answers.
        accept: go on where something cannot be kept, or may be missing.
    """

    run: int = 0
    bodies: bool = False
    accept: bool = False
    started: datetime
    window: tuple[datetime, datetime] | None = None
    source: str
    connector: str
    database: SerializeAsAny[DatabaseSource] | None = None
    files: FileSource | None = None
    stores: dict[str, FileSource] = Field(default_factory=dict)
    code: Code | None = None
    asked: dict[str, HttpTable] | None = None
    base_url: str = ""
    auth: SerializeAsAny[Auth] | None = None
    headers: dict[str, str] = Field(default_factory=dict)
    rate_limit: Pace = Pace()
    timeouts: Timeouts = Timeouts()
    retry: Retry = Retry()
    settings: dict[str, Any] = Field(default_factory=dict)
    variant: dict[str, Any] = Field(default_factory=dict)
    secrets: dict[str, str] = Field(default_factory=dict)
    parents: dict[str, HttpTable] = Field(default_factory=dict)

    def values(self, revealed: dict[str, str]) -> dict[str, Any]:
        """What templates may name, flat.

        Args:
            revealed: the secrets, by setting.
        """
        values: dict[str, Any] = {f"settings.{k}": v for k, v in {**self.settings, **revealed}.items()}
        return values | {
            "run.started": self.started,
            "run.id": self.run,
            "cursor.from": None,
            "cursor.until": self.started,
            "window.from": self.window[0] if self.window else None,
            "window.until": self.window[1] if self.window else None,
        }


class ResolvedRun(ResolvedSource):
    """Everything needed to run one feed.

    Attributes:
        wishes: what the feed says of tables that only the source knows; `tables` has them once they are known.
        feed_defaults: see wishes.
        table_prefix: see wishes.
        backfill: the backfill whose windows the run loads; 0 for the feed's schedule. A backfill loads every window again.
        apart: saved cursors are neither used nor moved.
        others: the same run into the feed's other warehouses.
    """

    feed: str
    feed_version: int
    warehouse: SerializeAsAny[Warehouse]
    tables: list[ResolvedTable]
    ignored: list[str] = Field(default_factory=list)
    wishes: dict[str, FeedTable | None] = Field(default_factory=dict)
    feed_defaults: TableDefaults = TableDefaults()
    table_prefix: str = ""
    rows_per_commit: int
    on_drift: OnDrift = OnDrift()
    max_rejects: Limit = HALF
    max_removed: Limit = HALF
    hash_secret: str = "column-hash"
    again: bool = False
    backfill: int = 0
    apart: bool = False
    others: list[ResolvedRun] = Field(default_factory=list)

    def window_of(self, table: ResolvedTable) -> tuple[datetime, datetime] | None:
        """The window to read of a table instead of what is new; None if the table knows no times and continues from its own cursor."""
        by_time = table.cursor is not None and table.cursor.type == "time"
        known = table.by in ("window", "full", "compare") or (table.by == "cursor" and by_time)
        return self.window if known else None

    def excluded_from_backfill(self, table: ResolvedTable) -> bool:
        """Whether the table has nothing but a cursor: a backfill moves no cursor, so such a table is not part of it."""
        return self.backfill != 0 and self.window_of(table) is None


def source_order(
    basket: Basket, name: str, *, started: datetime, run: int = 0, variant: Mapping[str, Any] | None = None
) -> ResolvedSource:
    """Resolve a source.

    Args:
        variant: of a feed; overrides settings of the same names.

    Raises:
        NotFound: there is no such source.
    """
    given = dict(variant or {})
    source = basket.sources.get(name)
    if source is None:
        raise NotFound(
            "looking up the source",
            name,
            found=f"sources: {', '.join(sorted(basket.sources)) or 'none'}",
            fix="apply a basket that defines it",
            code="source.not_found",
        )
    if source.connector is None:
        return ResolvedSource(
            run=run,
            started=started,
            source=name,
            connector=source.type or "",
            database=source.as_database,
            files=source.as_files,
            settings={**source.settings, **given},
            variant=given,
            secrets=source.secrets,
        )
    connector = basket.connectors[source.connector]
    settings, secrets = _settings_of(connector, source, given)
    return ResolvedSource(
        run=run,
        started=started,
        source=name,
        connector=source.connector,
        code=connector.runs,
        asked=connector.tables if connector.discover_tables else None,
        base_url=connector.base_url,
        auth=connector.auth,
        headers=connector.headers,
        rate_limit=connector.rate_limit,
        timeouts=connector.timeouts,
        retry=connector.retry,
        settings=settings,
        variant=given,
        secrets=secrets,
        parents=_ancestors(connector.tables.values(), connector.tables),
    )


def _settings_of(connector: Connector, source: Source, given: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, str]]:
    """(settings as templates fill them in, {setting: the secret's name}).

    Args:
        given: overrides the source's own.
    """
    settings: dict[str, Any] = {}
    secrets: dict[str, str] = {}
    for name, setting in connector.settings.items():
        value = source.settings.get(name, setting.default)
        if setting.type == "secret":
            if value is not None:
                secrets[name] = value["secret"]
            continue
        value = given.get(name, value)
        if setting.type == "list" and value is not None:
            value = [str(one) for one in value]
        elif setting.type == "time" and value is not None:
            value = parse_time(value)
        settings[name] = value
    return settings, secrets


def resolve(  # noqa: PLR0913 - each by its name
    basket: Basket,
    feed: str,
    *,
    run: int,
    version: int,
    started: datetime,
    accept: bool = False,
    again: bool = False,
    window: tuple[datetime, datetime] | None = None,
    backfill: int = 0,
    sets: Mapping[str, Any] | None = None,
    bodies: bool = False,
) -> ResolvedRun:
    """Resolve one run of a feed.

    Args:
        accept: what a changed write mode cannot keep may be dropped.
        again: replay rejects instead of reading the source.
        window, bodies: see ResolvedSource.
        backfill: see ResolvedRun.
        sets: overrides values of the variant and settings, for this run only.

    Raises:
        NotFound: there is no such feed.
    """
    definition = basket.feeds.get(feed)
    if definition is not None and definition.also:
        into = [definition.model_copy(update={"warehouse": name, "also": []}) for name in definition.warehouses]
        alone = [replace(basket, feeds={**basket.feeds, feed: one}) for one in into]
        more: dict[str, Any] = {"run": run, "version": version, "started": started, "accept": accept, "again": again}
        more |= {"window": window, "backfill": backfill, "sets": sets, "bodies": bodies}
        first, *others = (resolve(one, feed, **more) for one in alone)
        return first.model_copy(update={"others": others})
    if definition is None:
        raise NotFound(
            "looking up the feed",
            feed,
            found=f"feeds: {', '.join(sorted(basket.feeds)) or 'none'}",
            fix="apply a basket that defines it",
            code="feed.not_found",
        )
    variant = {**definition.variant, **(sets or {})}
    order = source_order(basket, definition.source, started=started, run=run, variant=variant)
    order.window, order.bodies = window, bodies
    copied = {table.copy_.to for table in definition.tables.values() if table is not None and table.copy_ is not None}
    named = {name: basket.sources[name].as_files for name in sorted(copied)}
    order.stores = {name: store for name, store in named.items() if store is not None}
    warehouse = basket.warehouses[definition.warehouse]
    asked = {name: getattr(order, name) for name in ResolvedSource.model_fields}
    facts = {
        "feed": feed,
        "feed_version": version,
        "warehouse": warehouse,
        **{
            key: getattr(definition, key)
            for key in ("rows_per_commit", "on_drift", "max_rejects", "max_removed", "hash_secret")
        },
        "accept": accept,
        "again": again,
        "backfill": backfill,
        "apart": bool(sets),
    }
    if order.database is not None or order.files is not None or order.asked is not None:
        wishes = {"wishes": definition.tables, "feed_defaults": definition.defaults}
        return ResolvedRun(**asked | facts, **wishes, tables=[], table_prefix=warehouse.table_prefix + definition.table_prefix)
    return _of_connector(basket, definition, order, asked | facts)


def _of_connector(basket: Basket, definition: Feed, order: ResolvedSource, facts: dict[str, Any]) -> ResolvedRun:
    connector, warehouse = basket.connectors[order.connector], basket.warehouses[definition.warehouse]
    tables = []
    for name in parents_first(definition.tables, connector.tables):
        rule = connector.tables[name]
        own = definition.tables[name]
        choice = table_choice(own, definition.defaults, name, connector.tables)
        tables.append(
            of_api(name, warehouse.table_prefix + definition.table_prefix + name.replace("-", "_"), rule, choice, own)
        )
    parents = _ancestors([t.rule for t in tables if t.rule], connector.tables)
    ignored = sorted(set(connector.tables) - set(definition.tables))
    return ResolvedRun(**facts | {"parents": parents}, tables=tables, ignored=ignored)


def of_api(
    name: str, target: str, rule: HttpTable, choice: TableChoice, own: FeedTable | None, *, by_pattern: bool = False
) -> ResolvedTable:
    """A table of an API, as part of a run."""
    return ResolvedTable(
        name=name,
        target=target,
        rule=rule,
        by=choice.by,
        cursor=choice.cursor if choice.by == "cursor" else None,
        window=choice.window,
        write=choice.write,
        key=choice.key or [],
        deletes=choice.deletes,
        nesting=choice.nesting,
        shaping=own or FeedTable(),
        by_pattern=by_pattern,
    )


def parents_first(chosen: Iterable[str], tables: Mapping[str, HttpTable]) -> list[str]:
    """Tables in their order, but each after the one whose records it requests."""
    ordered: list[str] = []

    def place(name: str) -> None:
        above = tables[name].parent_table
        if above in names and above not in ordered:
            place(above)
        if name not in ordered:
            ordered.append(name)

    names = list(chosen)
    for name in names:
        place(name)
    return ordered


def _ancestors(rules: Iterable[HttpTable], tables: Mapping[str, HttpTable]) -> dict[str, HttpTable]:
    """Every table that is the parent of one of these, or of such a parent."""
    found: dict[str, HttpTable] = {}
    waiting = [rule.parent_table for rule in rules]
    while waiting:
        name = waiting.pop()
        if name is not None and name not in found:
            found[name] = tables[name]
            waiting.append(tables[name].parent_table)
    return found
