"""What a feed says of a database's tables, as far as it can be told without the database."""

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
    """Whether a feed's name for tables stands for several, as `yard.*` does."""
    return bool(_PATTERN & set(name))


def database_feed_mistakes(feed: Feed, source: DatabaseSource) -> Iterator[Finding]:
    """(path, message, code) of each."""
    if feed.changes is not None:
        yield from _changes(("changes",), feed.changes, source)
    for name, stated in feed.tables.items():
        here: Path = ("tables", name)
        own = stated or FeedTable()
        pattern = is_pattern(own.table or name)
        if own.query is not None and own.table is not None:
            yield (*here, "query"), "say one of `table` and `query`", "definition.bad_value"
        if own.query is not None and pattern and own.table is None:
            yield here, "a query brings one table, and its name is no pattern", "definition.bad_value"
        if own.exclude and not pattern:
            yield (*here, "exclude"), "`exclude` takes tables out of a pattern, and this names one", "definition.bad_value"
        for key in ("files", "format", "file_columns", "copy_"):
            if key in own.model_fields_set:
                plain = key.removesuffix("_")
                yield (*here, plain), f"`{plain}` is for files, and this is a database", "definition.bad_value"
        if own.changes is not None:
            yield from _changes((*here, "changes"), own.changes, source)
        if own.parallel_read is not None and (own.query is not None or (own.changes and own.changes.by == "window")):
            yield (
                (*here, "parallel_read"),
                "`parallel_read` is for a table that is read whole, not of a query or of windows",
                "definition.bad_value",
            )
        if own.nesting is not None:
            yield (*here, "nesting"), "the columns of a database hold no records inside", "definition.bad_value"
        yield from shaping_mistakes(here, own, own.primary_key or [])


def _changes(here: Path, changes: Changes, source: DatabaseSource) -> Iterator[Finding]:
    if changes.by == "files":
        yield here, "a database has no files; say cursor, cdc, compare or full", "definition.bad_value"
    if changes.by == "row_version" and not source.row_versions:
        yield here, f"on {source.type} rows have no version; say cursor, compare or full", "definition.bad_value"
    if changes.by == "cdc" and not source.has_change_log:
        yield here, f"{source.type} keeps no log of changes; say cursor, compare or full", "definition.bad_value"
    if changes.start is not None:
        known = [*(f"settings.{name}" for name in source.settings), "run.started", "run.id"]
        for name in template.names(changes.start):
            if name not in known:
                yield (*here, "from"), f"{{{name}}} is not known here; known are {_START_NAMES}", "definition.unknown_name"


def shaping_mistakes(here: Path, own: FeedTable, key: list[str]) -> Iterator[Finding]:
    """What a feed says of a table's columns that does not go together."""
    columns = {fold(field) for field in key}
    for which in ("exclude_columns", "hash"):
        for place, name in enumerate(getattr(own, which)):
            if name in columns:
                yield (*here, which, place), f"{name} is part of the key, which is needed as it is", "definition.key_touched"
    expressions: list[tuple[Path, str]] = [(("compute", name), text) for name, text in own.compute.items()]
    if own.filter is not None:
        expressions.append((("filter",), own.filter))
    for path, text in expressions:
        try:
            check(text)
        except ExpressionMistake as mistake:
            yield (*here, *path), str(mistake), "definition.bad_expression"
