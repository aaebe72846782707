"""What an administrator of a database has to run, so that a source may read what its feeds name, and nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .. import errors
from ..extract.sql import Table
from ..spec.database_feed import is_pattern
from .asking import Outside
from .choosing import matches
from .order import RunOrder, SourceOrder
from .sql_reading import SqlReading


@dataclass(frozen=True)
class SetupStatement:
    """why: what it is for, in words. sql: '' where there is only something to say."""

    why: str
    sql: str


def setup_sql(order: SourceOrder, outside: Outside, feeds: Sequence[RunOrder]) -> list[SetupStatement]:
    """By the catalog where the source can be opened already; else by the names in the feeds alone."""
    source = order.database
    if source is None or source.on != "postgres":
        what = (
            "an API's access is given by its owner"
            if source is None
            else "SQLite has no users: the service must be able to read the file"
        )
        return [SetupStatement(what, "")]
    from ..extract.sql.postgres.check import setup_statements

    home = source.schema_ or "public"
    tables: list[Table] = []
    said: list[SetupStatement] = []
    named = [(wish, own) for feed in feeds for wish, own in feed.wishes.items()]
    there = _there(order, outside)
    for wish, own in named:
        name = own.table if own is not None and own.table else wish
        if own is not None and own.query is not None:
            said.append(
                SetupStatement(f"grant the tables of the query {wish} by yourself: only PostgreSQL knows which they are", "")
            )
        elif not is_pattern(name):
            if there is None:
                schema, _, table = name.rpartition(".")
                tables.append(Table(schema or home, table, "table", ()))
                continue
            found = [t for t in there if name in (t.name if t.schema == home else None, f"{t.schema}.{t.name}")]
            tables += found
            said += [] if found else [SetupStatement(f"there is no table {name}; names are exact", "")]
        elif there is not None:
            besides = own.besides if own is not None else []
            tables += [t for t in there if matches(name, t, home) and not any(matches(b, t, home) for b in besides)]
        else:
            schema = name.rpartition(".")[0] or home
            said.append(SetupStatement(f"{name} is a pattern: once the user may sign in, run this command again", ""))
            tables += [Table(schema, "", "table", ())]
    if not named:
        said.append(SetupStatement("no feed reads from this source yet; their tables would be granted here", ""))
    distinct = list({(t.schema, t.name): t for t in tables}.values())
    return [SetupStatement(*pair) for pair in setup_statements(source, distinct)] + said


def _there(order: SourceOrder, outside: Outside) -> list[Table] | None:
    try:
        reading = SqlReading(order, outside, lambda _: None)
    except errors.ReedError:
        return None
    try:
        return reading.database.tables()
    finally:
        reading.close()
