"""Steps of time: boundaries at whole numbers of steps after a start. Pure."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from .times import Step

Window = tuple[datetime, datetime]


def following(step: Step, start: datetime, begin: datetime) -> datetime:
    """Where the window that begins at `begin` ends."""
    if step == "month":
        return _month(start, _months(start, begin) + 1)
    assert isinstance(step, timedelta)
    return begin + step


def floor(step: Step, start: datetime, moment: datetime) -> datetime:
    """The beginning of the window that contains a moment."""
    if step == "month":
        months = _months(start, moment)
        return _month(start, months if _month(start, months) <= moment else months - 1)
    assert isinstance(step, timedelta)
    return start + (moment - start) // step * step


def _months(start: datetime, moment: datetime) -> int:
    return (moment.year - start.year) * 12 + moment.month - start.month


def _month(start: datetime, count: int) -> datetime:
    """So many calendar months after the start; the 31st of a shorter month is its last day."""
    year, month = divmod(start.month - 1 + count, 12)
    for day in (start.day, 30, 29, 28):
        try:
            return start.replace(year=start.year + year, month=month + 1, day=day, tzinfo=UTC)
        except ValueError:
            continue
    raise ValueError(start)
