"""Checks between definitions: names that exist, settings that are filled in, choices that fit together."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from ..allowed_paths import PlaceNotAllowed, Places
from .connector import Finding, connector_mistakes, setting_mistake
from .database_feed import database_feed_mistakes, shaping_mistakes
from .file_feed import file_feed_mistakes
from .http import Connector
from .mistakes import Mistake, nearest
from .model import Changes, Feed, FeedTable
from .source import Source
from .table_choice import choice_mistakes, table_choice
from .window_grid import misalignment
from .yaml_source import Path

if TYPE_CHECKING:
    from .basket import Basket


def check_links(basket: Basket, unreadable: set[tuple[str, str]]) -> list[Mistake]:
    """All mistakes between definitions. What refers to an unreadable definition is skipped: that one has its own mistake."""
    found: list[Mistake] = []
    for name, connector in basket.connectors.items():
        found += [basket.mistake("connector", name, *rest) for rest in connector_mistakes(connector)]
    for name, source in basket.sources.items():
        found += [basket.mistake("source", name, *rest) for rest in _source(basket, source, unreadable)]
    targets: dict[tuple[str, str], str] = {}
    for name, feed in basket.feeds.items():
        found += [basket.mistake("feed", name, *rest) for rest in _feed(basket, feed, unreadable, targets)]
        found += [basket.mistake("feed", name, *rest) for rest in _schedule(basket, feed, unreadable)]
        found += [basket.mistake("feed", name, *rest) for rest in _slots(basket, feed)]
    return found


def misplaced(basket: Basket, places: Places) -> Iterator[Mistake]:
    """Paths that lead where definitions may not reach. They are checked again when they are opened, because links change."""
    for name, source in basket.sources.items():
        yield from (basket.mistake("source", name, *found) for found in _outside(source.files, places.file))
    for name, warehouse in basket.warehouses.items():
        yield from (basket.mistake("warehouse", name, *found) for found in _outside(warehouse.paths, places.warehouse))
        yield from (basket.mistake("warehouse", name, *found) for found in _outside(warehouse.files, places.file))


def _outside(named: Mapping[tuple[str, ...], str], opened: Callable[[str], object]) -> Iterator[Finding]:
    """named: {key: the path it says}."""
    for key, stated in named.items():
        try:
            opened(stated)
        except PlaceNotAllowed as error:
            yield key, f"{error.on}: {error.found}; {error.fix}", error.code


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


def _feed(
    basket: Basket, feed: Feed, unreadable: set[tuple[str, str]], targets: dict[tuple[str, str], str]
) -> Iterator[Finding]:
    for warehouse in feed.warehouses:
        if warehouse not in basket.warehouses and ("warehouse", warehouse) not in unreadable:
            yield _missing("warehouse", warehouse, ("into",), basket.warehouses)
    source = basket.sources.get(feed.source)
    if source is None:
        if ("source", feed.source) not in unreadable:
            yield _missing("source", feed.source, ("from",), basket.sources)
        return
    if source.as_files is not None:
        yield from file_feed_mistakes(feed, source.as_files, basket.sources)
    if source.as_database is not None:
        yield from database_feed_mistakes(feed, source.as_database)
    if source.connector is None:
        return
    connector = basket.connectors.get(source.connector)
    if connector is None:
        return
    yield from _variant(feed, connector)
    if feed.changes is not None:
        yield from _only_of_databases(("changes",), feed.changes)
    for name in feed.tables:
        yield from _table(feed, name, connector, targets)


def _variant(feed: Feed, connector: Connector) -> Iterator[Finding]:
    for name in feed.variant:
        setting = connector.settings.get(name)
        if setting is not None and setting.type == "secret":
            yield ("variants", 0, name), "a secret can be named only in the source's settings", "definition.bad_value"
        elif setting is not None and (wrong := setting_mistake(setting, feed.variant[name])):
            yield ("variants", 0, name), wrong, "definition.bad_setting"


def _table(feed: Feed, name: str, connector: Connector, targets: dict[tuple[str, str], str]) -> Iterator[Finding]:
    here: Path = ("tables", name)
    yield from _only_of_databases(here, feed.tables[name], patterns=connector.discover_tables)
    rule = connector.tables.get(name)
    if rule is None:
        if not connector.discover_tables:  # else a run asks the source, and says what is wrong with one that it has not
            message = f'the connector has no table "{name}"{nearest(name, connector.tables)}'
            yield here, message, "definition.unknown_table"
        return
    choice = table_choice(feed.tables[name], feed.defaults, name, connector.tables)
    yield from choice_mistakes(here, choice, rule, by_code=connector.type == "python")
    yield from shaping_mistakes(here, feed.tables[name] or FeedTable(), choice.key or [])
    target = feed.table_prefix + name.replace("-", "_")
    for warehouse in feed.warehouses:
        other = targets.setdefault((warehouse, target), feed.feed)
        if other != feed.feed:
            message = f'the feed "{other}" already writes the table {target} there; give one of them a `table_prefix`'
            yield here, message, "definition.table_name_taken"


def _slots(basket: Basket, feed: Feed) -> Iterator[Finding]:
    """A slot keeps one position: what one feed has taken of it is gone for another."""
    own = _slots_of(feed)
    for name, other in basket.feeds.items():
        both = own & _slots_of(other) if name != feed.feed and other.source == feed.source else set()
        if both:
            message = f'the feed "{name}" reads the slot {min(both)} too, and each would miss what the other has read; name another slot'
            yield ("tables",), message, "definition.slot_shared"


def _slots_of(feed: Feed) -> set[str]:
    stated = [feed.changes, *(own.changes for own in feed.tables.values() if own is not None)]
    return {changes.slot for changes in stated if changes is not None and changes.by == "cdc" and changes.slot is not None}


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
            yield ("schedule", "after"), message, "definition.cycle"
            return
        seen.append(above)
        above = other.schedule.after if other.schedule else None
    wrong = misalignment(feed.feed, {name: one.schedule for name, one in basket.feeds.items()})
    if wrong:
        yield ("schedule",), wrong, "definition.windows_misaligned"


def _only_of_databases(here: Path, stated: FeedTable | Changes | None, *, patterns: bool = False) -> Iterator[Finding]:
    """patterns: tables are known at the source alone, and may be named by a pattern."""
    if stated is None:
        return
    changes = stated.changes if isinstance(stated, FeedTable) else stated
    of_files = [
        n
        for n in ("files", "format", "file_columns", "copy_")
        if isinstance(stated, FeedTable) and n in stated.model_fields_set
    ]
    for key in of_files:
        plain = key.removesuffix("_")
        yield (
            (*here, plain),
            f"`{plain}` is for files; for an API, the connector says what is requested",
            "definition.bad_value",
        )
    of_databases = ("table", "query", "source_filter") if patterns else ("table", "query", "source_filter", "exclude")
    names = [n for n in of_databases if isinstance(stated, FeedTable) and n in stated.model_fields_set]
    for name in names:
        yield (
            (*here, name),
            f"`{'as' if name == 'table' else name}` is for tables of a database; for an API, the connector says what is requested",
            "definition.bad_value",
        )
    if changes is not None and changes.by == "files":
        yield (*here, "changes"), "an API has no files; use cursor, window, compare or full", "definition.bad_value"
    elif changes is not None and changes.by == "row_version":
        yield (
            (*here, "changes"),
            "an API has no row versions; use cursor, window, compare or full",
            "definition.bad_value",
        )
    elif changes is not None and (changes.column or (changes.by == "cursor" and changes.model_fields_set - {"by"})):
        yield (*here, "changes"), "the cursor of an API is declared in its connector", "definition.bad_value"


def _missing(kind: str, name: str, path: Path, known: Iterable[str]) -> Finding:
    return path, f'there is no {kind} "{name}"{nearest(name, known)}', f"definition.unknown_{kind}"
