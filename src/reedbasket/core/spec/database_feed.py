"""Checks of a feed from a database, as far as they are possible without the database."""

from __future__ import annotations

from collections.abc import Iterator

from ..expressions import ExpressionMistake, check
from ..records.names import fold
from . import template
from .connector import Finding
from .model import Changes, Feed, FeedTable
from .source import DatabaseSource
from .yaml_source import Path

_PATTERN = frozenset("*?")
_START_NAMES = "{settings.…}, {run.started} or {run.id}"


def is_pattern(name: str) -> bool:
    """Whether a feed's table stands for several, like `yard.*`."""
    return bool(_PATTERN & set(name))


def database_feed_mistakes(feed: Feed, source: DatabaseSource) -> Iterator[Finding]:
    """(path, message, code) of each mistake."""
    if feed.changes is not None:
        yield from _changes(("changes",), feed.changes, source)
    for name, stated in feed.tables.items():
        here: Path = ("tables", name)
        own = stated or FeedTable()
        pattern = is_pattern(own.table or name)
        if own.query is not None and own.table is not None:
            yield (*here, "query"), "give either `table` or `query`", "definition.bad_value"
        if own.query is not None and pattern and own.table is None:
            yield here, "a query is one table, so its name cannot be a pattern", "definition.bad_value"
        if own.exclude and not pattern:
            yield (*here, "exclude"), "`exclude` is for patterns, and this is the name of one table", "definition.bad_value"
        for key in ("files", "format", "file_columns", "copy_"):
            if key in own.model_fields_set:
                plain = key.removesuffix("_")
                yield (*here, plain), f"`{plain}` is for files, and this is a database", "definition.bad_value"
        if own.changes is not None:
            yield from _changes((*here, "changes"), own.changes, source)
        if own.parallel_read is not None and (own.query is not None or (own.changes and own.changes.by == "window")):
            yield (
                (*here, "parallel_read"),
                "`parallel_read` is for whole tables, not for queries or windows",
                "definition.bad_value",
            )
        if own.nesting is not None:
            yield (*here, "nesting"), "the columns of a database have no nested records", "definition.bad_value"
        yield from shaping_mistakes(here, own, own.primary_key or [])


def _changes(here: Path, changes: Changes, source: DatabaseSource) -> Iterator[Finding]:
    if changes.by == "files":
        yield here, "a database has no files; use cursor, cdc, compare or full", "definition.bad_value"
    if changes.by == "row_version" and not source.row_versions:
        yield here, f"{source.type} has no row versions; use cursor, compare or full", "definition.bad_value"
    if changes.by == "cdc" and not source.has_change_log:
        yield here, f"{source.type} keeps no change log; use cursor, compare or full", "definition.bad_value"
    if changes.start is not None:
        known = [*(f"settings.{name}" for name in source.settings), "run.started", "run.id"]
        for name in template.names(changes.start):
            if name not in known:
                yield (*here, "from"), f"{{{name}}} is not defined here; these are: {_START_NAMES}", "definition.unknown_name"


def shaping_mistakes(here: Path, own: FeedTable, key: list[str]) -> Iterator[Finding]:
    """Mistakes in what a feed says about a table's columns."""
    columns = {fold(field) for field in key}
    for which in ("exclude_columns", "hash"):
        for place, name in enumerate(getattr(own, which)):
            if name in columns:
                yield (
                    (*here, which, place),
                    f"{name} is part of the key, which cannot be changed",
                    "definition.key_column_changed",
                )
    expressions: list[tuple[Path, str]] = [(("compute", name), text) for name, text in own.compute.items()]
    if own.filter is not None:
        expressions.append((("filter",), own.filter))
    for path, text in expressions:
        try:
            check(text)
        except ExpressionMistake as mistake:
            yield (*here, *path), str(mistake), "definition.bad_expression"
