"""Inspecting a database before anything is loaded: each step of connecting, its tables, and what an administrator has to run."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from typing import Any

from ... import errors
from ...check_steps import CheckStep, walked
from ...kinds import SOURCES, load
from ...shaping import Shaper, TableShape
from ...sources.sql import Table
from ...sources.sql.changelog import LogName
from ...spec.source import DatabaseSource
from ..execution.cdc_table_reader import log_name_of
from ..execution.database_session import DatabaseSession
from ..planning.order import ResolvedRun, ResolvedSource
from ..planning.table_selection import choose, name_of
from ..request_context import RunContext
from .look import Method, Previewed, SurveyedColumn, SurveyedTable, listed

# What could be a cursor by its type, and of those what is likely one by its name.
_LIKELY = ("updated", "modified", "changed", "created", "inserted", "at", "time", "date", "seq", "version")
_LATE = "rows that are committed late (see `overlap`)"


def check_database(order: ResolvedSource, context: RunContext, feeds: Sequence[ResolvedRun] = ()) -> list[CheckStep]:
    """Check each step of connecting and reading.

    Args:
        feeds: those that read from the database; checks that their tables exist and may be read.
    """
    assert order.database is not None
    kind = SOURCES.get(order.database.type or "")
    way = load(kind.setup, kind.extra)
    steps = way.check(order.database, context.reveal, context.places, lambda: _of_feeds(order, context, feeds))
    return walked(steps, way.STEPS)


def _of_feeds(order: ResolvedSource, context: RunContext, feeds: Sequence[ResolvedRun]) -> Iterator[CheckStep]:
    """The catalog, and what the feeds name of it."""
    try:
        reading = DatabaseSession(order, context, lambda _: None)
    except errors.ReedError as error:
        yield CheckStep("catalog", False, error.found, error.fix)
        return
    try:
        tables = reading.database.tables()
        yield CheckStep("catalog", True, f"{len(tables)} tables and views, {sum(t.readable for t in tables)} of them readable")
        named = 0
        logs: dict[LogName, list[Table]] = {}
        for feed in feeds:
            choice = reading.choose(feed)
            named += len(choice.chosen)
            for chosen in choice.chosen:
                if chosen.by == "cdc":
                    logs.setdefault(log_name_of(chosen, feed.feed), []).append(chosen.table)
            for name, problem in choice.problems.items():
                yield CheckStep("read", False, f"feed {feed.feed}, {name}: {problem.found}", problem.fix)
                return
        one = next((t for t in tables if t.readable), None)
        if one is not None and not named:
            next(iter(reading.alone(one, one.name).chunks()))
        yield CheckStep("read", True, f"{named} tables that feeds name exist" if named else "no feed names a table yet")
        yield from reading.database.check_logs(logs)
    except errors.ReedError as error:
        yield CheckStep("read", False, error.found, error.fix)
    finally:
        reading.close()


def survey_database(
    order: ResolvedSource, context: RunContext, match: Sequence[str], exclude: Sequence[str]
) -> list[SurveyedTable]:
    """All matching tables and views, from the catalog alone: no row is read."""
    assert order.database is not None
    reading = DatabaseSession(order, context, lambda _: None)
    try:
        found = []
        for table in reading.database.tables():
            name = name_of(table, reading.default_schema)
            names = {name, f"{table.schema}.{table.name}"}
            if match and not any(fnmatchcase(n, pattern) for n in names for pattern in match):
                continue
            if not any(fnmatchcase(n, pattern) for n in names for pattern in exclude):
                found.append(_surveyed(name, table, order.database))
        return found
    finally:
        reading.close()


def _surveyed(name: str, table: Table, source: DatabaseSource) -> SurveyedTable:
    columns = [SurveyedColumn(c.name, c.kind or "", None, None, [], c.declared, c.nullable) for c in table.columns]
    cursors = [
        c.name for c in table.columns
        if c.kind in ("timestamp", "date") or (c.kind == "int64" and (table.key == (c.name,) or _likely(c.name)))
    ]  # fmt: skip
    cursors.sort(key=lambda column: (not _likely(column), "updat" not in column and "modif" not in column))
    return SurveyedTable(
        name, table.description, total=table.rows, columns=columns, key=list(table.key), cursors=cursors, what=table.what,
        readable=table.readable, methods=methods_of(table, cursors, source), indexed=sorted(table.indexed),
    )  # fmt: skip


def _likely(column: str) -> bool:
    return any(column.lower().endswith(word) or word in column.lower().split("_") for word in _LIKELY)


def methods_of(table: Table, cursors: Sequence[str], source: DatabaseSource) -> list[Method]:
    """The ways in which changes to a table can be found, and what each of them misses."""
    found = []
    if cursors:
        slow = "" if cursors[0] in table.indexed else f"; without an index on {cursors[0]} each run scans the whole table"
        found.append(Method("cursor", f"deletes; changes that do not change the cursor; {_LATE}{slow}"))
    if source.has_change_log and table.what == "table" and table.key:
        found.append(Method("cdc", "nothing; the server has to keep its change log for the feed"))
    if table.versioned and table.what == "table" and source.row_versions and table.key:
        found.append(Method("row_version", "deletes; each run scans the whole table"))
    if table.key:
        found.append(Method("compare", "nothing; each run reads the whole table"))
    found.append(Method("full", "nothing; each run reads and writes the whole table"))
    return found


def preview_database(order: ResolvedSource, context: RunContext, name: str, rows: int) -> Previewed:
    """The first rows of a table.

    Raises:
        ReedError: it cannot be read.
    """
    reading = DatabaseSession(order, context, lambda _: None)
    try:
        choice = choose(
            {name: None},
            ResolvedRun.model_fields["feed_defaults"].default,
            reading.database.tables(),
            reading.default_schema,
            {},
        )
        for problem in choice.problems.values():
            raise problem
        reader = reading.alone(choice.chosen[0].table, name)
        statement = reader.statement(None)
        limited = type(statement)(f"{statement.text}\nlimit {int(rows)}", statement.columns, statement.values)
        shaper = Shaper(TableShape("preview"), [], "row")
        made: list[list[Any]] = []
        rejects: list[str] = []
        for chunk in reader.read(limited):
            if not len(chunk.records):
                continue
            shaped = shaper.shape(chunk.records, 0)
            batch = shaped.batches[0]
            rejects += [reject.message for reject in shaped.rejects]
            made += [list(row) for row in zip(*(listed(batch.columns[c.name][1]) for c in shaper.family.root.columns))]
        columns = [(column.name, column.kind) for column in shaper.family.root.columns]
        columns = columns or [(c.name, c.kind or "text") for c in statement.columns]
        return Previewed(columns, made, rejects, [])
    finally:
        reading.close()
