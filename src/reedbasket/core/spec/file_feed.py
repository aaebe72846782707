"""Checks of a feed from files, as far as they are possible without the store."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from .connector import Finding
from .database_feed import shaping_mistakes
from .file_source import FileSource
from .model import KEYED, Changes, Feed, FeedTable
from .pattern import Pattern
from .source import Source
from .yaml_source import Path

_OF_DATABASES = ("table", "query", "source_filter", "exclude", "parallel_read")
_COPIED_ALONE = (
    "format",
    "primary_key",
    "nesting",
    "file_columns",
    "include_columns",
    "exclude_columns",
    "rename",
    "cast",
    "compute",
    "hash",
    "filter",
)


def file_feed_mistakes(feed: Feed, source: FileSource, sources: Mapping[str, Source]) -> Iterator[Finding]:
    """(path, message, code) of each mistake.

    Args:
        sources: those that files may be copied to.
    """
    if feed.changes is not None:
        yield from _changes(("changes",), feed.changes)
    for name, stated in feed.tables.items():
        here: Path = ("tables", name)
        own = stated or FeedTable()
        for key in _OF_DATABASES:
            if key in own.model_fields_set:
                said = "as" if key == "table" else key
                yield (
                    (*here, key),
                    f"`{said}` is for tables of a database, and this is a store of files",
                    "definition.bad_value",
                )
        if own.files is None:
            yield here, "name the table's files: `files: counts-*.csv`", "definition.no_files"
        for place, text in enumerate(own.files or ()):
            yield from _pattern((*here, "files", place), text, source)
        changes = own.changes or feed.changes or Changes(by="files")
        if own.changes is not None:
            yield from _changes((*here, "changes"), own.changes)
        if own.copy_ is not None:
            yield from _copy(here, own, changes, sources, source)
            continue
        yield from _writing(here, own, feed, changes)
        yield from shaping_mistakes(here, own, own.primary_key or [])


def _pattern(here: Path, text: str, source: FileSource) -> Iterator[Finding]:
    try:
        pattern = Pattern(text)
    except ValueError as error:
        yield here, str(error), "definition.bad_pattern"
        return
    if not source.store.lists and not pattern.plain:
        words = "files cannot be listed there: name each one in full, without * and <names>"
        yield here, words, "definition.bad_pattern"


def _changes(here: Path, changes: Changes) -> Iterator[Finding]:
    if changes.by not in ("files", "full", "compare"):
        yield here, "changes of files are found by files, full or compare", "definition.bad_value"


def _writing(here: Path, own: FeedTable, feed: Feed, changes: Changes) -> Iterator[Finding]:
    write, key = own.write or feed.write, own.primary_key
    if write in KEYED and not key:
        yield here, f"write: {write} needs a key; name one with `primary_key`, or use append", "definition.no_key"
    if changes.by == "compare" and (not key or write in ("append", "replace")):
        yield (
            here,
            "compare writes only rows that differ: name a key, and use mirror, upsert or versions",
            "definition.compare_needs_key",
        )
    if changes.by != "files":
        return
    if write in ("replace", "mirror"):
        words = f"write: {write} needs a complete read, and changes by files read only new ones; use `changes: {{by: full}}`, or append"
        yield here, words, "definition.replace_by_files"
    if changes.changed == "upsert" and not key:
        yield here, "changed: upsert needs a key; name one with `primary_key`, or use replace", "definition.no_key"
    if changes.changed in ("replace", "append") and write == "versions":
        words = f"changed: {changes.changed} cannot be combined with versions; use upsert"
        yield here, words, "definition.bad_value"


def _copy(here: Path, own: FeedTable, changes: Changes, sources: Mapping[str, Source], source: FileSource) -> Iterator[Finding]:
    assert own.copy_ is not None
    for key in _COPIED_ALONE:
        if key in own.model_fields_set:
            words = f"files that are copied are not read, so `{key}` does not apply"
            yield (*here, key), words, "definition.bad_value"
    if changes.by != "files":
        yield (*here, "changes"), "copying needs changes by files: `changes: {by: files}`", "definition.bad_value"
    named = sources.get(own.copy_.to)
    target = named.as_files if named is not None else None
    if target is None:
        yield (*here, "copy", "to"), f"there is no file source {own.copy_.to} to copy to", "definition.unknown_source"
    elif not target.store.writes:
        words = f"from {target.source} files are only read; copy to a store that can be written to, such as a folder"
        yield (*here, "copy", "to"), words, "definition.bad_value"
    elif target.source == source.source and not own.copy_.under:
        yield (
            (*here, "copy", "to"),
            "that is where they are; name another source, or a folder with `under`",
            "definition.bad_value",
        )
