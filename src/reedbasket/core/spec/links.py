"""What one definition needs of another: names that exist, settings that fit, choices that go together."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..shape.expressions import ExpressionMistake, check
from ..shape.names import fold
from . import template
from .mistakes import Mistake, nearest
from .model import Auth, Changes, Connector, Deletes, Feed, FeedTable, HttpTable, Nesting, Setting, Source, Write
from .times import parse_time
from .yaml_source import Path

if TYPE_CHECKING:
    from .basket import Basket

REQUEST_NAMES = ("cursor.from", "cursor.until", "run.started", "run.id")


def check_links(basket: Basket, unreadable: set[tuple[str, str]]) -> list[Mistake]:
    """All mistakes between definitions. What refers to an unreadable definition is passed over: it has its own."""
    found: list[Mistake] = []
    for name, connector in basket.connectors.items():
        found += [basket.mistake("connector", name, *rest) for rest in _connector(connector)]
    for name, source in basket.sources.items():
        found += [basket.mistake("source", name, *rest) for rest in _source(basket, source, unreadable)]
    targets: dict[tuple[str, str], str] = {}
    for name, feed in basket.feeds.items():
        found += [basket.mistake("feed", name, *rest) for rest in _feed(basket, feed, unreadable, targets)]
    return found


Finding = tuple[Path, str, str]


def _connector(connector: Connector) -> Iterator[Finding]:
    settings = [f"settings.{s}" for s in connector.settings]
    for name, setting in connector.settings.items():
        if setting.default is not None:
            wrong = setting_mistake(setting, setting.default)
            if wrong:
                yield ("settings", name, "default"), wrong, "definition.bad_value"
    yield from _names(("base",), connector.base, settings)
    if connector.auth:
        for path, text in _auth_templates(connector.auth):
            yield from _names(("auth", *path), text, settings)
    for header, text in connector.headers.items():
        yield from _names(("headers", header), text, settings)
    for table, rule in connector.tables.items():
        for path, text in request_templates(rule):
            yield from _names(("tables", table, *path), text, [*settings, *REQUEST_NAMES])
        if rule.cursor and rule.cursor.start:
            yield from _names(("tables", table, "cursor", "start"), rule.cursor.start, settings)


def _auth_templates(auth: Auth) -> Iterator[tuple[Path, str]]:
    for name, text in (("bearer", auth.bearer), ("key", auth.key)):
        if text is not None:
            yield (name,), text
    if auth.basic is not None:
        yield ("basic", "user"), auth.basic.user
        yield ("basic", "password"), auth.basic.password


def request_templates(rule: HttpTable) -> Iterator[tuple[Path, str]]:
    """The templates that make one table's request: ((path), text)."""
    yield ("get",), rule.get
    for name, text in rule.send.items():
        yield ("send", name), text


def _names(path: Path, text: str, known: Iterable[str]) -> Iterator[Finding]:
    known = list(known)
    for name in template.names(text):
        if name not in known:
            yield path, f"{{{name}}} is not known here{nearest(name, known)}", "definition.unknown_name"


def _source(basket: Basket, source: Source, unreadable: set[tuple[str, str]]) -> Iterator[Finding]:
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


def setting_mistake(setting: Setting, value: Any) -> str | None:
    """What is wrong with a value for a setting, or None. Never repeats the value of a secret."""
    if setting.type == "secret":
        if isinstance(value, dict) and set(value) == {"secret"} and isinstance(value["secret"], str):
            return None
        return "a secret is given by name, {secret: NAME}, and set with `reed secret set NAME`"
    if isinstance(value, dict | list):
        return f"wants one value of type {setting.type}"
    if setting.type == "number" and (isinstance(value, bool) or not isinstance(value, int | float)):
        return f"wants a number, found {value!r}"
    if setting.type == "flag" and not isinstance(value, bool):
        return f"wants true or false, found {value!r}"
    if setting.type == "url" and not re.fullmatch(r"https?://[^\s/]+\S*", str(value)):
        return f"wants an address that starts with http:// or https://, found {value!r}"
    if setting.type == "time":
        try:
            parse_time(value)
        except ValueError as error:
            return str(error)
    if setting.pattern is not None and not re.fullmatch(setting.pattern, str(value)):
        return f"found {value!r}, which does not match the pattern {setting.pattern}"
    if setting.allowed is not None and value not in setting.allowed:
        return f"found {value!r}{nearest(str(value), setting.allowed)}"
    return None


@dataclass(frozen=True)
class TableChoice:
    """How one table of a feed is taken. key: source fields, or None."""

    by: str
    write: Write
    key: list[str] | None
    deletes: Deletes
    nesting: Nesting


def table_choice(feed: Feed, name: str, rule: HttpTable) -> TableChoice:
    """The table's own choices, else the feed's defaults, else what the connector makes natural.

    Natural is: by cursor where the connector names one, else everything; mirror for compare, merge where there is a key, else
    replace when everything is read, else append.
    """
    own = feed.tables[name] or FeedTable()
    key = own.key or rule.key
    changes = own.changes or feed.defaults.changes or Changes(by="cursor" if rule.cursor else "everything")
    write: Write | None = own.write or feed.defaults.write
    if write is None and changes.by == "compare":
        write = "mirror"
    if write is None:
        write = "merge" if key else ("replace" if changes.by == "everything" else "append")
    deletes = own.deletes or feed.defaults.deletes or "apply"
    return TableChoice(changes.by, write, key, deletes, own.nesting or feed.defaults.nesting or Nesting())


def _feed(
    basket: Basket, feed: Feed, unreadable: set[tuple[str, str]], targets: dict[tuple[str, str], str]
) -> Iterator[Finding]:
    if feed.warehouse not in basket.warehouses and ("warehouse", feed.warehouse) not in unreadable:
        yield _missing("warehouse", feed.warehouse, ("into",), basket.warehouses)
    source = basket.sources.get(feed.source)
    if source is None:
        if ("source", feed.source) not in unreadable:
            yield _missing("source", feed.source, ("from",), basket.sources)
        return
    connector = basket.connectors.get(source.connector)
    if connector is None:
        return
    for name in feed.tables:
        here: Path = ("tables", name)
        rule = connector.tables.get(name)
        if rule is None:
            yield (
                here,
                f'the connector has no table "{name}"{nearest(name, connector.tables)}',
                ("definition.unknown_table"),
            )
            continue
        yield from _choice(here, table_choice(feed, name, rule), rule)
        yield from _shaping(here, feed.tables[name] or FeedTable(), table_choice(feed, name, rule).key or [])
        target = feed.prefix + name.replace("-", "_")
        other = targets.setdefault((feed.warehouse, target), feed.feed)
        if other != feed.feed:
            message = f'the feed "{other}" already writes the table {target} there; give one a prefix'
            yield here, message, "definition.table_taken"


def _choice(here: Path, choice: TableChoice, rule: HttpTable) -> Iterator[Finding]:
    if choice.by == "cursor" and rule.cursor is None:
        message = "changes by cursor, but the connector names no cursor for it; say changes: {by: everything}"
        yield here, message, "definition.no_cursor"
    elif choice.by == "cursor" and not _sends_cursor(rule):
        message = "changes by cursor, but the connector's request never sends {cursor.from}"
        yield here, message, "definition.cursor_not_sent"
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


def _shaping(here: Path, own: FeedTable, key: list[str]) -> Iterator[Finding]:
    columns = {fold(field) for field in key}
    for which in ("leave_out", "hash"):
        for place, name in enumerate(getattr(own, which)):
            if name in columns:
                yield (*here, which, place), f"{name} is part of the key, which is needed as it is", "definition.key_touched"
    expressions: list[tuple[Path, str]] = [(("compute", name), text) for name, text in own.compute.items()]
    if own.keep is not None:
        expressions.append((("keep",), own.keep))
    for path, text in expressions:
        try:
            check(text)
        except ExpressionMistake as mistake:
            yield (*here, *path), str(mistake), "definition.bad_expression"


def _sends_cursor(rule: HttpTable) -> bool:
    return any("cursor.from" in template.names(text) for _, text in request_templates(rule))


def _missing(kind: str, name: str, path: Path, known: Iterable[str]) -> Finding:
    return path, f'there is no {kind} "{name}"{nearest(name, known)}', f"definition.unknown_{kind}"
