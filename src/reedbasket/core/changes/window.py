"""Time windows: which ones a pass reads, and where the next one continues. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from ..records.position import SavedCursor
from ..spec.http import WindowRule
from ..spec.time_steps import Window, floor, following
from ..spec.times import format_time, parse_time


def windows(rule: WindowRule, start: datetime, saved: SavedCursor | None, now: datetime) -> Iterator[Window]:
    """Half-open ranges [from, until), the oldest first: complete ones that ended at least `delay` ago, after the last one read.

    With `overlap`, so much before the end of the last pass is read again, from the beginning of the window there.

    Args:
        start: the rule's `from`, filled in; every window begins a whole number of steps after it.
    """
    begin = start
    if saved is not None:
        begin = max(start, floor(rule.length, start, parse_time(saved.value) - rule.overlap))
    latest = now - rule.delay
    while (end := following(rule.length, start, begin)) <= latest:
        yield begin, end
        begin = end


def within(rule: WindowRule | None, window: Window) -> list[Window]:
    """A given window, in steps of the rule from its beginning on; as a whole if there are no steps."""
    if rule is None:
        return [window]
    found, begin = [], window[0]
    while begin < window[1]:
        end = min(following(rule.length, window[0], begin), window[1])
        found.append((begin, end))
        begin = end
    return found


def position(window: Window) -> SavedCursor:
    """Everything before the window's end has been read."""
    return SavedCursor("window", format_time(window[1]), None, "windows")
