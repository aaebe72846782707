"""The tables of a database that a feed selects: its names and patterns matched with what exists. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from fnmatch import fnmatchcase
from typing import Any

from ...errors import DefinitionError, ReedError, SourceError
from ...records.names import claim
from ...sources.sql import Column, Table
from ...spec.database_feed import is_pattern
from ...spec.http import CursorRule, WindowRule
from ...spec.mistakes import nearest
from ...spec.model import KEYED, Changes, FeedTable, Nesting, ParallelRead, TableDefaults, Write

_CURSORS: dict[str | None, Any] = {
    "timestamp": "time", "date": "time", "int64": "number", "decimal": "number", "double": "number", "text": "text", "uuid": "text",
}  # fmt: skip


@dataclass(frozen=True)
class ChosenTable:
    """One table of a feed.

    Attributes:
        name: as the feed and its records name it.
        target: the warehouse table.
    """

    name: str
    target: str
    own: FeedTable
    table: Table
    by: str
    write: Write
    key: list[str]
    deletes: Any
    nesting: Nesting
    cursor: CursorRule | None = None
    cursor_columns: tuple[str, ...] = ()
    window: WindowRule | None = None
    window_column: str | None = None
    changes: Changes | None = None
    range_column: Column | None = None
    by_pattern: bool = False

    @property
    def complete(self) -> bool:
        """Whether all rows are one load."""
        return _complete(self.by, self.write)


@dataclass
class Choice:
    """The result of a selection.

    Attributes:
        problems: {table: why it cannot be read as the feed says}.
        unmatched: patterns that match nothing.
        ignored: tables that nothing names.
        unreadable: tables that match a pattern, but may not be read.
    """

    chosen: list[ChosenTable] = field(default_factory=list)
    problems: dict[str, ReedError] = field(default_factory=dict)
    unmatched: list[str] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)


def name_of(table: Table, default_schema: str) -> str:
    """The name of a table, with its schema unless that is the source's own."""
    return table.name if table.schema in ("", default_schema) else f"{table.schema}.{table.name}"


def choose(
    wishes: dict[str, FeedTable | None],
    defaults: TableDefaults,
    tables: Sequence[Table],
    default_schema: str,
    queries: dict[str, Table],
    *,
    prefix: str = "",
) -> Choice:
    """Choose the tables of a feed: a name wins over a pattern, and the first of several patterns that match.

    Args:
        prefix: put before the names of the warehouse's tables.
        default_schema: the schema of tables that are named without one.
        queries: the table that each query of the feed yields.
    """
    found = Choice()
    named = _by_name(wishes, tables, default_schema, queries, found)
    by_pattern = _by_pattern(wishes, tables, default_schema, {id(entry.table) for entry in named}, found)
    names: set[str] = set()
    for entry in [*named, *by_pattern]:
        try:
            chosen = _chosen(entry.name, entry.own, defaults, entry.table, names, prefix)
        except DefinitionError as error:
            found.problems[entry.name] = error
            continue
        names.add(chosen.target)
        found.chosen.append(replace(chosen, by_pattern=entry.by_pattern))
    used = {id(chosen.table) for chosen in found.chosen}
    told = {*found.problems, *found.unreadable}
    found.ignored = [name for t in tables if id(t) not in used and (name := name_of(t, default_schema)) not in told]
    return found


@dataclass(frozen=True)
class _Entry:
    """A selected table; own: what the feed says of it."""

    name: str
    own: FeedTable
    table: Table
    by_pattern: bool = False


def _by_name(
    wishes: dict[str, FeedTable | None], tables: Sequence[Table], default_schema: str, queries: dict[str, Table], found: Choice
) -> list[_Entry]:
    """Queries, and tables that are named; those that cannot be read are told in `found`."""
    there = {name_of(table, default_schema): table for table in tables}
    there.update({f"{table.schema}.{table.name}": table for table in tables if table.schema == default_schema})
    entries: list[_Entry] = []
    for wish, said in wishes.items():
        own = said or FeedTable()
        if wish in queries:
            entries.append(_Entry(wish, own, queries[wish]))
        elif own.query is None and not is_pattern(own.table or wish):
            table = there.get(own.table or wish)
            if table is None:
                found.problems[wish] = _unknown(own.table or wish, there)
            elif not table.readable and not table.columns:
                found.problems[wish] = _broken(own.table or wish, table)
            else:
                entries.append(_Entry(wish if own.table else name_of(table, default_schema), own, table))
    return entries


def _by_pattern(
    wishes: dict[str, FeedTable | None], tables: Sequence[Table], default_schema: str, taken: set[int], found: Choice
) -> list[_Entry]:
    """Tables that match a pattern. `found` gets the patterns that match none, and the tables that may not be read.

    Args:
        taken: the `id` of each table that is named.
    """
    entries: list[_Entry] = []
    for wish, said in wishes.items():
        own = said or FeedTable()
        if own.query is not None or not is_pattern(own.table or wish):
            continue
        matching = [t for t in tables if matches(own.table or wish, t, default_schema)]
        matching = [t for t in matching if not any(matches(pattern, t, default_schema) for pattern in own.exclude)]
        found.unreadable += [
            name for t in matching if not t.readable and (name := name_of(t, default_schema)) not in found.unreadable
        ]
        matching = [t for t in matching if t.readable]
        if not matching:
            found.unmatched.append(wish)
        entries += [_Entry(name_of(table, default_schema), own, table, True) for table in matching if id(table) not in taken]
        taken |= {id(table) for table in matching}
    return entries


def matches(pattern: str, table: Table, default_schema: str) -> bool:
    """Whether a table matches a pattern. A pattern without a dot matches only tables in the source's own schema."""
    if "." in pattern and table.schema:
        return fnmatchcase(f"{table.schema}.{table.name}", pattern)
    return table.schema in ("", default_schema) and fnmatchcase(table.name, pattern)


def _chosen(name: str, own: FeedTable, defaults: TableDefaults, table: Table, names: set[str], prefix: str) -> ChosenTable:
    if not table.readable:
        raise _problem(name, "it may not be read", "`reed setup-sql SOURCE` prints the grants", "source.permission_denied")
    changes = own.changes or defaults.changes or Changes(by="full")
    key = own.primary_key or list(table.key)
    for column in key:
        _column(name, table, column, "key")
    write = own.write or defaults.write or _usual_write(changes, key)
    complete = _complete(changes.by, write)
    ranged = range_column(name, table, own.parallel_read, key, complete=complete) if own.parallel_read is not None else None
    _require_write(name, changes, write, key, in_ranges=ranged is not None)
    if changes.by == "cdc":
        _require_log(name, table, own, write, key)
    if changes.by == "row_version" and (not table.versioned or table.what != "table"):
        raise _problem(
            name, f"a {table.what} has no row versions", "use changes by cursor, compare or full",
            "source.no_row_version",
        )  # fmt: skip
    cursor, columns = _cursor(name, changes, table) if changes.by == "cursor" else (None, ())
    window, window_column = _window(name, changes, table, own) if changes.by == "window" else (None, None)
    return ChosenTable(
        name, claim(prefix + name, names, name), own, table, changes.by, write, key, own.deletes or defaults.deletes or "hard",
        own.nesting or defaults.nesting or Nesting(), cursor, columns, window, window_column, changes,
        ranged,
    )  # fmt: skip


def _usual_write(changes: Changes, key: Sequence[str]) -> Write:
    """Where nobody says how rows are written."""
    if changes.by == "compare":
        return "mirror"
    if key:
        return "upsert"
    return "replace" if changes.by == "full" else "append"


def _require_write(name: str, changes: Changes, write: Write, key: Sequence[str], *, in_ranges: bool) -> None:
    """Check that the write mode fits the way in which changes are found.

    Raises:
        DefinitionError: it does not.
    """
    wrong: tuple[str, str, str] | None = None
    if write in KEYED and not key:
        wrong = (
            f"write: {write} needs a key, and the database declares none", "name one with `primary_key`, or use `write: replace`",
            "definition.no_key",
        )  # fmt: skip
    elif changes.by == "compare" and write in ("append", "replace"):
        wrong = (
            f"compare writes only rows that differ, which {write} cannot do", "use mirror, upsert or versions",
            "definition.compare_needs_key",
        )  # fmt: skip
    elif in_ranges and changes.by in ("cursor", "row_version") and write == "append":
        wrong = (
            "when ranges are read in parallel some rows come twice, and append would duplicate them",
            "use upsert, with a key", "definition.bad_parallel_read",
        )  # fmt: skip
    elif changes.by in ("cursor", "window", "row_version") and write in ("replace", "mirror"):
        wrong = (
            f"write: {write} needs a complete read, and changes by {changes.by} are only a part", "use upsert, or read everything",
            "definition.replace_by_cursor",
        )  # fmt: skip
    elif changes.by == "row_version" and write == "append":
        wrong = (
            "with row versions some rows come twice, and append would duplicate them", "use upsert, with a key",
            "definition.row_version_needs_key",
        )  # fmt: skip
    if wrong is not None:
        raise _problem(name, *wrong)


def _complete(by: str, write: Write) -> bool:
    return by == "compare" or (by == "full" and write in ("replace", "mirror", "versions"))


def _require_log(name: str, table: Table, own: FeedTable, write: Write, key: list[str]) -> None:
    if table.what != "table":
        raise _problem(
            name, f"the change log contains tables, and this is a {table.what}", "use changes by cursor, compare or full",
            "source.cdc_not_enabled",
        )  # fmt: skip
    if own.source_filter is not None:
        raise _problem(
            name, "the change log cannot use `source_filter`: a row that no longer matches it would stay",
            "use `filter`, over the warehouse's columns", "definition.bad_value",
        )  # fmt: skip
    if write not in ("upsert", "versions"):
        raise _problem(
            name,
            f"the change log contains updates of rows, which {write} cannot apply",
            "use upsert or versions",
            "definition.cdc_needs_key",
        )
    if set(key) != set(table.key):
        raise _problem(
            name,
            f"the change log identifies rows by the table's own key ({', '.join(table.key) or 'it has none'}), not by {', '.join(key)}",
            "leave `primary_key` out, give the table a primary key, or use changes by compare", "definition.cdc_needs_key",
        )  # fmt: skip


def _cursor(name: str, changes: Changes, table: Table) -> tuple[CursorRule, tuple[str, ...]]:
    if not changes.column:
        raise _problem(
            name, "changes by cursor need a column", "write `changes: {by: cursor, column: updated_at}`", "definition.no_cursor"
        )
    columns = [_column(name, table, column, "cursor") for column in changes.column]
    types = {_CURSORS.get(column.kind) for column in columns}
    if len(types) > 1 or None in types:
        words = ", ".join(f"{c.name} ({c.declared or 'of no declared type'})" for c in columns)
        raise _problem(
            name, f"{words} cannot be a cursor", "use a column of numbers, times or text; for a query, cast it there",
            "definition.no_cursor",
        )  # fmt: skip
    said: dict[str, Any] = {"column": ", ".join(changes.column), "type": types.pop()}
    said |= {"start": changes.start} if changes.start is not None else {}
    said |= {"overlap": changes.overlap} if changes.overlap is not None else {}
    try:
        rule = CursorRule.model_validate(said)
    except ValueError as error:
        raise _problem(name, str(error).splitlines()[-2].strip(), "fix `changes`", "definition.bad_value") from None
    return rule, tuple(changes.column)


def _window(name: str, changes: Changes, table: Table, own: FeedTable) -> tuple[WindowRule, str | None]:
    said = {n: getattr(changes, n) for n in ("start", "length", "delay", "overlap") if getattr(changes, n) is not None}
    if "start" not in said:
        raise _problem(
            name, "it is not said where the first window begins", "write `changes: {by: window, column: …, from: 2026-01-01}`",
            "definition.no_window",
        )  # fmt: skip
    column = changes.column[0] if changes.column else None
    if column is not None:
        _column(name, table, column, "window")
    elif own.query is None:
        raise _problem(
            name,
            "windows are ranges of a column, and none is named",
            "write `changes: {by: window, column: created_at}`",
            "definition.no_window",
        )
    return WindowRule.model_validate(said), column


def _column(name: str, table: Table, column: str, what: str) -> Column:
    found = table.column(column)
    if found is None:
        known = [c.name for c in table.columns]
        raise _problem(
            name, f'the {what} names "{column}", which is not one of its columns{nearest(column, known)}',
            f"columns: {', '.join(known[:40])}", "definition.unknown_column",
        )  # fmt: skip
    return found


def _broken(name: str, view: Table) -> SourceError:
    fix = "fix the view at the source, or leave it out of the feed"
    return SourceError("reading the view", name, found=view.description, fix=fix, code="source.broken_view")


def _unknown(name: str, there: dict[str, Table]) -> DefinitionError:
    return _problem(
        name, f"the database has no table of that name{near(name, there)}", "`reed survey SOURCE` lists them; names have to match exactly",
        "definition.unknown_table",
    )  # fmt: skip


def near(name: str, there: Iterable[str]) -> str:
    """A suggestion of a similar name, without a list of all others: there may be hundreds."""
    close = get_close_matches(name, list(there), n=1, cutoff=0.6)
    return f'; did you mean "{close[0]}"?' if close else ""


def _problem(name: str, found: str, fix: str, code: str) -> DefinitionError:
    return DefinitionError("taking", name, found=found, fix=fix, code=code)


def range_column(name: str, table: Table, rule: ParallelRead, key: Sequence[str], *, complete: bool) -> Column:
    """The column by which a table is read in parallel.

    Args:
        complete: all rows are one load, so that no run has to resume in the middle.

    Raises:
        DefinitionError: the table cannot be read in ranges of that column.
    """
    if rule.column is None and complete and table.place is not None:
        return table.place
    wanted = rule.column or (key[0] if key else None)
    column = table.column(wanted) if wanted else None
    if column is None or column.nullable or column.kind not in ("int64", "timestamp", "date", "text", "uuid"):
        words = "the table has no key" if wanted is None else f"{wanted} is not one of its columns" if column is None else (
            f"{wanted} may be null" if column.nullable else f"{wanted} is a {column.kind or 'column of no declared type'}"
        )  # fmt: skip
        raise DefinitionError(
            "reading in ranges", name, found=words,
            fix="choose an indexed column of numbers, times or text that is never null: `parallel_read: {column: COLUMN}`",
            code="definition.bad_parallel_read",
        )  # fmt: skip
    return column
