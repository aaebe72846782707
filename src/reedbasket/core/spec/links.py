"""What definitions say of each other: names that exist, settings filled in, choices that go together."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING

from . import template
from .connector import Finding, connector_mistakes, request_templates, setting_mistake
from .database_feed import database_feed_mistakes, shaping_mistakes
from .file_feed import file_feed_mistakes
from .grid import misalignment
from .http import Connector, CursorRule, HttpTable, WindowRule
from .mistakes import Mistake, nearest
from .model import Changes, Deletes, Feed, FeedTable, Nesting, Source, Write
from .yaml_source import Path

if TYPE_CHECKING:
    from .basket import Basket


def check_links(basket: Basket, unreadable: set[tuple[str, str]]) -> list[Mistake]:
    """All mistakes between definitions. What refers to an unreadable definition is passed over: it has its own."""
    found: list[Mistake] = []
    for name, connector in basket.connectors.items():
        found += [basket.mistake("connector", name, *rest) for rest in connector_mistakes(connector)]
    for name, source in basket.sources.items():
        found += [basket.mistake("source", name, *rest) for rest in _source(basket, source, unreadable)]
    targets: dict[tuple[str, str], str] = {}
    for name, feed in basket.feeds.items():
        found += [basket.mistake("feed", name, *rest) for rest in _feed(basket, feed, unreadable, targets)]
        found += [basket.mistake("feed", name, *rest) for rest in _schedule(basket, feed, unreadable)]
    return found


def _source(basket: Basket, source: Source, unreadable: set[tuple[str, str]]) -> Iterator[Finding]:
    if source.connector is None:
        return
    connector = basket.connectors.get(source.connector)
    if connector is None:
        if ("connector", source.connector) not in unreadable:
            yield _missing("connector", source.connector, ("connector",), basket.connectors)
        return
    for name, value in source.settings.items():
        setting = connector.settings.get(name)
        if setting is None:
            yield (
                ("settings", name),
                f'unknown setting "{name}"{nearest(name, connector.settings)}',
                ("definition.unknown_setting"),
            )
            continue
        wrong = setting_mistake(setting, value)
        if wrong:
            yield ("settings", name), wrong, "definition.bad_setting"
    for name, setting in connector.settings.items():
        if setting.default is None and name not in source.settings:
            example = f", for example {setting.example}" if setting.example is not None else ""
            message = f'the setting "{name}" ({setting.type}{example}) is missing; the connector requires it'
            yield ("settings",), message, "definition.missing_setting"


@dataclass(frozen=True)
class TableChoice:
    """How one table of a feed is taken. key: source fields, or None. window: where changes are found by windows. cursor: where they
    are by cursor; for one request per changed parent it is the parent's."""

    by: str
    write: Write
    key: list[str] | None
    deletes: Deletes
    nesting: Nesting
    cursor: CursorRule | None
    window: WindowRule | None


def table_choice(feed: Feed, name: str, connector: Connector) -> TableChoice:
    """The table's own choices, else the feed's defaults, else what the connector makes natural.

    Natural is: by cursor where the connector names one, by window where it names that, else everything; mirror for compare, merge
    where there is a key, else replace when everything is read, else append.
    """
    rule = connector.tables[name]
    own = feed.tables[name] or FeedTable()
    key = own.key or rule.key
    cursor = rule.cursor
    if rule.for_each and rule.parents == "changed" and rule.for_each in connector.tables:
        cursor = connector.tables[rule.for_each].cursor
    natural = Changes(by="saved" if rule.saves else "cursor" if cursor else "window" if rule.window else "everything")
    changes = own.changes or feed.defaults.changes or natural
    write: Write | None = own.write or feed.defaults.write
    if write is None and changes.by == "compare":
        write = "mirror"
    if write is None:
        write = "merge" if key else ("replace" if changes.by == "everything" else "append")
    deletes = own.deletes or feed.defaults.deletes or "apply"
    nesting = own.nesting or feed.defaults.nesting or Nesting()
    return TableChoice(changes.by, write, key, deletes, nesting, cursor, _window(changes, rule))


def _window(changes: Changes, rule: HttpTable) -> WindowRule | None:
    """The connector's window with what the feed says in its place; None where nobody says where windows begin."""
    if changes.by != "window":
        return None
    said: dict[str, object] = {
        n: getattr(changes, n) for n in ("start", "step", "lag", "overlap") if getattr(changes, n) is not None
    }
    if rule.window:
        return rule.window.model_copy(update=said)
    return WindowRule.model_validate(said) if "start" in said else None


def _feed(
    basket: Basket, feed: Feed, unreadable: set[tuple[str, str]], targets: dict[tuple[str, str], str]
) -> Iterator[Finding]:
    for warehouse in feed.warehouses:
        if warehouse not in basket.warehouses and ("warehouse", warehouse) not in unreadable:
            yield _missing("warehouse", warehouse, ("into",), basket.warehouses)
    by_log = [name for name, own in feed.tables.items() if _changes_by(feed, own) == "log"]
    if feed.also and by_log:
        message = (
            f"the log is followed for one warehouse, and {by_log[0]} goes by it; have a feed for each, with a `slot` of its own"
        )
        yield ("into",), message, "definition.several_warehouses"
    source = basket.sources.get(feed.source)
    if source is None:
        if ("source", feed.source) not in unreadable:
            yield _missing("source", feed.source, ("from",), basket.sources)
        return
    if source.on == "files":
        yield from file_feed_mistakes(feed, source, basket.sources)
        return
    if source.connector is None:
        yield from database_feed_mistakes(feed, source)
        return
    connector = basket.connectors.get(source.connector)
    if connector is None:
        return
    for name in feed.parameters:
        setting = connector.settings.get(name)
        if setting is not None and setting.type == "secret":
            yield ("parameters", name), "a secret is named in the source's settings, and nowhere else", "definition.bad_value"
        elif setting is not None and (wrong := setting_mistake(setting, feed.parameters[name])):
            yield ("parameters", name), wrong, "definition.bad_setting"
    if feed.defaults.changes is not None:
        yield from _only_of_databases(("defaults", "changes"), feed.defaults.changes)
    for name in feed.tables:
        here: Path = ("tables", name)
        yield from _only_of_databases(here, feed.tables[name])
        rule = connector.tables.get(name)
        if rule is None:
            yield (
                here,
                f'the connector has no table "{name}"{nearest(name, connector.tables)}',
                ("definition.unknown_table"),
            )
            continue
        choice = table_choice(feed, name, connector)
        yield from _choice(here, choice, rule, by_code=connector.on == "python")
        yield from shaping_mistakes(here, feed.tables[name] or FeedTable(), choice.key or [])
        target = feed.prefix + name.replace("-", "_")
        for warehouse in feed.warehouses:
            other = targets.setdefault((warehouse, target), feed.feed)
            if other != feed.feed:
                message = f'the feed "{other}" already writes the table {target} there; give one a prefix'
                yield here, message, "definition.table_taken"


def _changes_by(feed: Feed, own: FeedTable | None) -> str:
    changes = (own.changes if own is not None else None) or feed.defaults.changes
    return changes.by if changes is not None else ""


def _schedule(basket: Basket, feed: Feed, unreadable: set[tuple[str, str]]) -> Iterator[Finding]:
    if feed.schedule is None or feed.schedule.after is None:
        return
    seen = [feed.feed]
    above: str | None = feed.schedule.after
    while above is not None:
        other = basket.feeds.get(above)
        if other is None:
            if len(seen) == 1 and ("feed", above) not in unreadable:
                yield _missing("feed", above, ("schedule", "after"), basket.feeds)
            return
        if above in seen:
            message = f"the feeds wait for each other: {' after '.join([*seen, above])}"
            yield ("schedule", "after"), message, "definition.circle"
            return
        seen.append(above)
        above = other.schedule.after if other.schedule else None
    wrong = misalignment(feed.feed, {name: one.schedule for name, one in basket.feeds.items()})
    if wrong:
        yield ("schedule",), wrong, "definition.misaligned"


def _only_of_databases(here: Path, said: FeedTable | Changes | None) -> Iterator[Finding]:
    if said is None:
        return
    changes = said.changes if isinstance(said, FeedTable) else said
    of_files = [n for n in ("files", "format", "noted", "copy_") if isinstance(said, FeedTable) and n in said.model_fields_set]
    for key in of_files:
        plain = key.removesuffix("_")
        yield (*here, plain), f"`{plain}` is for files; an API's connector says what is asked for", "definition.bad_value"
    names = [n for n in ("table", "query", "where", "besides") if isinstance(said, FeedTable) and n in said.model_fields_set]
    for name in names:
        yield (
            (*here, name),
            f"`{name}` is for tables of a database; an API's connector says what is asked for",
            "definition.bad_value",
        )
    if changes is not None and changes.by == "files":
        yield (*here, "changes"), "an API has no files; say cursor, window, compare or everything", "definition.bad_value"
    elif changes is not None and changes.by == "row_version":
        yield (
            (*here, "changes"),
            "an API keeps no versions of rows; say cursor, window, compare or everything",
            "definition.bad_value",
        )
    elif changes is not None and (changes.column or (changes.by == "cursor" and changes.model_fields_set - {"by"})):
        yield (*here, "changes"), "the cursor of an API stands in its connector", "definition.bad_value"


def _choice(here: Path, choice: TableChoice, rule: HttpTable, *, by_code: bool) -> Iterator[Finding]:
    """by_code: the connector is Python, and asks for what it is to."""
    sends = {name for _, text in request_templates(rule) for name in template.names(text)}
    if by_code:
        sends = {"cursor.from"} | ({"window.from"} if choice.by == "window" else set())
    if choice.by == "saved" and not rule.saves:
        message = "changes by what the connector saves, and it saves nothing of this table; say cursor, everything or compare"
        yield here, message, "definition.no_cursor"
    if choice.by == "saved" and choice.write in ("replace", "mirror"):
        message = f"write: {choice.write} wants a complete read, and behind what was saved it is a part; use merge or append"
        yield here, message, "definition.replace_by_cursor"
    if choice.by == "cursor" and choice.cursor is None:
        message = "changes by cursor, but the connector names no cursor for it; say changes: {by: everything}"
        yield here, message, "definition.no_cursor"
    elif choice.by == "cursor" and rule.cursor and rule.cursor.bound != "none" and "cursor.from" not in sends:
        message = "changes by cursor, but the connector's request never sends {cursor.from}; say `bound: none` if it cannot"
        yield here, message, "definition.cursor_not_sent"
    if choice.by == "window" and choice.window is None:
        message = "changes by window, but nothing says where the first begins; say changes: {by: window, from: 2026-01-01}"
        yield here, message, "definition.no_window"
    if choice.by == "window" and not sends & {"window.from", "window.until"}:
        message = "changes by window, but the connector's request never sends {window.from} or {window.until}"
        yield here, message, "definition.window_not_sent"
    if choice.by != "window" and sends & {"window.from", "window.until"}:
        message = "the connector's request sends a window; say changes: {by: window, from: 2026-01-01}"
        yield here, message, "definition.window_not_sent"
    if choice.by == "window" and choice.write in ("replace", "mirror"):
        message = f"write: {choice.write} wants a complete read, and a window is a part; use merge or append"
        yield here, message, "definition.replace_by_window"
    if choice.window and choice.window.overlap > timedelta(0) and choice.write == "append":
        message = "a window that is taken again with `overlap` would be appended twice; use merge, with a key"
        yield here, message, "definition.window_twice"
    if rule.conditional and choice.by not in ("everything", "compare"):
        message = "`conditional` asks whether the whole answer changed, and goes with everything and compare"
        yield here, message, "definition.bad_value"
    if choice.write in ("merge", "mirror", "history") and not choice.key:
        message = f"write: {choice.write} needs a key; name one, or append, or replace"
        yield here, message, "definition.no_key"
    if choice.write == "replace" and choice.by == "cursor":
        message = "write: replace would throw away the rows that did not change; use merge, or read everything"
        yield here, message, "definition.replace_by_cursor"
    if choice.write == "mirror" and choice.by == "cursor":
        message = "write: mirror needs a complete read, to see what has gone; use merge, or changes: {by: everything}"
        yield here, message, "definition.mirror_by_cursor"
    if choice.by == "compare" and choice.write in ("append", "replace"):
        message = f"changes by compare write only what differs, which {choice.write} cannot; use mirror, merge or history"
        yield here, message, "definition.compare_needs_key"


def _missing(kind: str, name: str, path: Path, known: Iterable[str]) -> Finding:
    return path, f'there is no {kind} "{name}"{nearest(name, known)}', f"definition.unknown_{kind}"
