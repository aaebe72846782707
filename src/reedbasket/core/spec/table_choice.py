"""How one table of a feed is read: what the feed says, completed by what the connector declares."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Set
from dataclasses import dataclass
from datetime import timedelta

from . import template
from .connector import Finding, request_templates
from .http import CursorRule, HttpTable, WindowRule
from .model import KEYED, Changes, Deletes, FeedTable, Nesting, TableDefaults, Write
from .yaml_source import Path


@dataclass(frozen=True)
class TableChoice:
    """How one table of a feed is read.

    Attributes:
        key: source fields, or None.
        window: if changes are found by windows.
        cursor: if changes are found by cursor; the parent's, if there is a request for each changed parent.
    """

    by: str
    write: Write
    key: list[str] | None
    deletes: Deletes
    nesting: Nesting
    cursor: CursorRule | None
    window: WindowRule | None


def table_choice(own: FeedTable | None, defaults: TableDefaults, name: str, tables: Mapping[str, HttpTable]) -> TableChoice:
    """The table's own choices, otherwise the feed's defaults, otherwise what suits the connector's table: changes by cursor if it has one,
    by window if it has one, otherwise full; write mode mirror for compare, upsert with a key, otherwise replace if everything is read,
    otherwise append.

    Args:
        tables: of the connector.
    """
    rule, own = tables[name], own or FeedTable()
    key = own.primary_key or rule.primary_key
    cursor = rule.cursor
    if rule.parent and rule.by_changed_parents and rule.parent.table in tables:
        cursor = tables[rule.parent.table].cursor
    natural = Changes(by="saved" if rule.own_position else "cursor" if cursor else "window" if rule.window else "full")
    changes = own.changes or defaults.changes or natural
    write: Write | None = own.write or defaults.write
    if write is None and changes.by == "compare":
        write = "mirror"
    if write is None:
        write = "upsert" if key else ("replace" if changes.by == "full" else "append")
    deletes = own.deletes or defaults.deletes or "hard"
    nesting = own.nesting or defaults.nesting or Nesting()
    return TableChoice(changes.by, write, key, deletes, nesting, cursor, _window(changes, rule))


def _window(changes: Changes, rule: HttpTable) -> WindowRule | None:
    """The connector's window, overridden by the feed; None if nobody says where windows begin."""
    if changes.by != "window":
        return None
    stated: dict[str, object] = {
        n: getattr(changes, n) for n in ("start", "length", "delay", "overlap") if getattr(changes, n) is not None
    }
    if rule.window:
        return rule.window.model_copy(update=stated)
    return WindowRule.model_validate(stated) if "start" in stated else None


def choice_mistakes(here: Path, choice: TableChoice, rule: HttpTable, *, by_code: bool) -> Iterator[Finding]:
    """Combinations of reading and writing that do not fit together.

    Args:
        here: the table's place in the definition.
        choice: what feed and connector say.
        rule: the connector's table.
        by_code: the connector is Python, and decides itself what it requests.
    """
    sends = {name for _, text in request_templates(rule) for name in template.names(text)}
    if by_code:
        sends = {"cursor.from"} | ({"window.from"} if choice.by == "window" else set())
    yield from _of_saved(here, choice, rule)
    yield from _of_cursor(here, choice, rule, sends)
    yield from _of_windows(here, choice, sends)
    if rule.conditional_requests and choice.by not in ("full", "compare"):
        message = "`conditional_requests` asks whether the whole answer has changed, so it needs changes by full or compare"
        yield here, message, "definition.bad_value"
    if choice.write in KEYED and not choice.key:
        message = f"write: {choice.write} needs a key; name one with `primary_key`, or use append, or replace"
        yield here, message, "definition.no_key"
    if choice.write == "replace" and choice.by == "cursor":
        message = "write: replace would delete the rows that did not change; use upsert, or changes by full"
        yield here, message, "definition.replace_by_cursor"
    if choice.write == "mirror" and choice.by == "cursor":
        message = "write: mirror needs a complete read, to see which rows are gone; use upsert, or `changes: {by: full}`"
        yield here, message, "definition.mirror_by_cursor"
    if choice.by == "compare" and choice.write in ("append", "replace"):
        message = (
            f"changes by compare write only rows that differ, which {choice.write} cannot do; use mirror, upsert or versions"
        )
        yield here, message, "definition.compare_needs_key"


def _of_saved(here: Path, choice: TableChoice, rule: HttpTable) -> Iterator[Finding]:
    if choice.by == "saved" and not rule.own_position:
        message = "changes by saved, but the connector saves no position for this table; use cursor, full or compare"
        yield here, message, "definition.no_cursor"
    if choice.by == "saved" and choice.write in ("replace", "mirror"):
        message = (
            f"write: {choice.write} needs a complete read, and after a saved position it is only a part; use upsert or append"
        )
        yield here, message, "definition.replace_by_cursor"


def _of_cursor(here: Path, choice: TableChoice, rule: HttpTable, sends: Collection[str]) -> Iterator[Finding]:
    if choice.by == "cursor" and choice.cursor is None:
        message = "changes by cursor, but the connector declares no cursor for it; use `changes: {by: full}`"
        yield here, message, "definition.no_cursor"
    elif choice.by == "cursor" and rule.cursor and rule.cursor.bound != "none" and "cursor.from" not in sends:
        message = "changes by cursor, but the connector's request never sends {cursor.from}; set `bound: none` if it cannot"
        yield here, message, "definition.cursor_not_sent"


def _of_windows(here: Path, choice: TableChoice, sends: Set[str]) -> Iterator[Finding]:
    if choice.by == "window" and choice.window is None:
        message = (
            "changes by window, but it is not said where the first one begins; write `changes: {by: window, from: 2026-01-01}`"
        )
        yield here, message, "definition.no_window"
    if choice.by == "window" and not sends & {"window.from", "window.until"}:
        message = "changes by window, but the connector's request never sends {window.from} or {window.until}"
        yield here, message, "definition.window_not_sent"
    if choice.by != "window" and sends & {"window.from", "window.until"}:
        message = "the connector's request sends a window; write `changes: {by: window, from: 2026-01-01}`"
        yield here, message, "definition.window_not_sent"
    if choice.by == "window" and choice.write in ("replace", "mirror"):
        message = f"write: {choice.write} needs a complete read, and a window is only a part; use upsert or append"
        yield here, message, "definition.replace_by_window"
    if choice.window and choice.window.overlap > timedelta(0) and choice.write == "append":
        message = "a window that is read again with `overlap` would be appended twice; use upsert, with a key"
        yield here, message, "definition.window_twice"
