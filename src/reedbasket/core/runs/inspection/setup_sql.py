"""The SQL that a database's administrator has to run so that a source may read what its feeds name, and nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ... import errors
from ...kinds import SOURCES, load
from ...sources.sql import Table
from ...sources.sql.changelog import LogName, log_name
from ...spec.database_feed import is_pattern
from ..execution.database_session import DatabaseSession
from ..planning.order import ResolvedRun, ResolvedSource
from ..planning.table_selection import matches
from ..request_context import RunContext


@dataclass(frozen=True)
class SetupStatement:
    """One statement.

    Attributes:
        why: its purpose, in words.
        sql: '' if there is only something to say.
    """

    why: str
    sql: str


def setup_sql(order: ResolvedSource, context: RunContext, feeds: Sequence[ResolvedRun]) -> list[SetupStatement]:
    """The statements, from the catalog if the source can be opened already, otherwise from the names in the feeds."""
    source = order.database
    if source is None:
        return [SetupStatement("access to an API is granted by its owner", "")]
    kind = SOURCES.get(source.type or "")
    default_schema = source.default_schema
    tables: list[Table] = []
    said: list[SetupStatement] = []
    named = [(feed, wish, own) for feed in feeds for wish, own in feed.wishes.items()]
    there = _there(order, context)
    logs: dict[LogName, list[Table]] = {}
    for feed, wish, own in named:
        before = len(tables)
        name = own.table if own is not None and own.table else wish
        if own is not None and own.query is not None:
            said.append(
                SetupStatement(f"grant the tables of the query {wish} by yourself: only the database knows which they are", "")
            )
        elif not is_pattern(name):
            schema, _, table = name.rpartition(".")
            found = [Table(schema or default_schema, table, "table", ())]
            if there is not None:
                found = [t for t in there if name in (t.name if t.schema == default_schema else None, f"{t.schema}.{t.name}")]
                said += [] if found else [SetupStatement(f"there is no table {name}; names have to match exactly", "")]
            tables += found
        elif there is not None:
            exclude = own.exclude if own is not None else []
            tables += [
                t for t in there if matches(name, t, default_schema) and not any(matches(b, t, default_schema) for b in exclude)
            ]
        else:
            schema = name.rpartition(".")[0] or default_schema
            said.append(SetupStatement(f"{name} is a pattern: run this command again once the user can log in", ""))
            tables += [Table(schema, "", "table", ())]
        changes = (own.changes if own is not None else None) or feed.feed_defaults.changes
        if changes is not None and changes.by == "cdc":
            logs.setdefault(log_name(feed.feed, changes.slot, changes.publication), []).extend(
                t for t in tables[before:] if t.name
            )
    if not named:
        said.append(SetupStatement("no feed reads from this source yet; once one does, its tables are granted here", ""))
    distinct = list({(t.schema, t.name): t for t in tables}.values())
    made = load(kind.setup, kind.extra).setup_statements(source, distinct, logs)
    return [SetupStatement(*pair) for pair in made] + said


def _there(order: ResolvedSource, context: RunContext) -> list[Table] | None:
    try:
        reading = DatabaseSession(order, context, lambda _: None)
    except errors.ReedError:
        return None
    try:
        return reading.database.tables()
    finally:
        reading.close()
