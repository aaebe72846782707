"""Time windows: which ones a pass takes, and where it may go on. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from ..load.warehouse import SavedCursor
from ..spec.http import WindowRule
from ..spec.times import format_time, parse_time

Window = tuple[datetime, datetime]


def windows(rule: WindowRule, start: datetime, saved: SavedCursor | None, now: datetime) -> Iterator[Window]:
    """Half-open ranges [from, until), oldest first: whole ones, over at least `lag` ago, after the last one taken.

    start: the rule's `from`, filled in; every window begins a whole number of steps after it. overlap: so much before where the last
    pass ended is taken again, from the beginning of the window that lies there.
    """
    begin = start
    if saved is not None:
        begin = max(start, floor(rule, start, parse_time(saved.value) - rule.overlap))
    latest = now - rule.lag
    while (end := following(rule, start, begin)) <= latest:
        yield begin, end
        begin = end


def within(rule: WindowRule | None, window: Window) -> list[Window]:
    """A given window, in the steps of the rule, from where it begins; whole, where nothing says of steps."""
    if rule is None:
        return [window]
    found, begin = [], window[0]
    while begin < window[1]:
        end = min(following(rule, window[0], begin), window[1])
        found.append((begin, end))
        begin = end
    return found


def following(rule: WindowRule, start: datetime, begin: datetime) -> datetime:
    """Where the window that begins at `begin` ends."""
    if rule.step == "month":
        return _month(start, _months(start, begin) + 1)
    assert isinstance(rule.step, timedelta)
    return begin + rule.step


def floor(rule: WindowRule, start: datetime, moment: datetime) -> datetime:
    """The beginning of the window that holds a moment."""
    if rule.step == "month":
        months = _months(start, moment)
        return _month(start, months if _month(start, months) <= moment else months - 1)
    assert isinstance(rule.step, timedelta)
    return start + (moment - start) // rule.step * rule.step


def position(window: Window) -> SavedCursor:
    """Everything before the window's end has been taken."""
    return SavedCursor("window", format_time(window[1]), None, "windows")


def _months(start: datetime, moment: datetime) -> int:
    return (moment.year - start.year) * 12 + moment.month - start.month


def _month(start: datetime, count: int) -> datetime:
    """So many calendar months after the start; the 31st of a month that has none is its last day."""
    year, month = divmod(start.month - 1 + count, 12)
    for day in (start.day, 30, 29, 28):
        try:
            return start.replace(year=start.year + year, month=month + 1, day=day, tzinfo=UTC)
        except ValueError:
            continue
    raise ValueError(start)
