"""The moments of `every` and `cron`."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Protocol
from zoneinfo import ZoneInfo

from cronsim import CronSim
from typing_extensions import override

from .schedule import Schedule

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


class Ticks(Protocol):
    """Moments in order, without end. All times are aware, UTC."""

    def after(self, moment: datetime) -> datetime:
        """The first one later than a moment."""

    def latest(self, moment: datetime) -> datetime:
        """The last one at or before a moment."""

    def between(self, after: datetime, until: datetime) -> Iterator[datetime]:
        """Those in (after, until], the oldest first."""


def ticks_of(schedule: Schedule, feed: str) -> Ticks | None:
    """The moments of a schedule; None for a schedule of windows, or one that follows another feed."""
    if schedule.every is not None:
        return Monthly(feed) if schedule.every == "month" else Every(schedule.every, feed)
    return Cron(schedule.cron, schedule.time_zone) if schedule.cron is not None else None


def share(*what: str) -> float:
    """A number in [0, 1) that is always the same for the same words, and otherwise looks random."""
    return int.from_bytes(hashlib.sha256("\n".join(what).encode()).digest()[:6]) / 2**48


class _Between(ABC):
    @abstractmethod
    def after(self, moment: datetime) -> datetime:
        """See Ticks."""

    def between(self, after: datetime, until: datetime) -> Iterator[datetime]:
        tick = self.after(after)
        while tick <= until:
            yield tick
            tick = self.after(tick)


@dataclass(frozen=True)
class Every(_Between, Ticks):
    """At a regular interval, with an offset of the feed's own: 300 feeds of `every: 1m` are spread over the minute."""

    interval: timedelta
    feed: str

    @property
    def _first(self) -> datetime:
        return _EPOCH + timedelta(milliseconds=int(share(self.feed) * self.interval.total_seconds() * 1000))

    @override
    def latest(self, moment: datetime) -> datetime:
        return self._first + (moment - self._first) // self.interval * self.interval

    @override
    def after(self, moment: datetime) -> datetime:
        return self.latest(moment) + self.interval


@dataclass(frozen=True)
class Monthly(_Between, Ticks):
    """Within the first hour of each month, UTC."""

    feed: str

    def _of(self, year: int, month: int) -> datetime:
        begin = datetime(year + (month - 1) // 12, (month - 1) % 12 + 1, 1, tzinfo=UTC)
        return begin + timedelta(seconds=int(share(self.feed) * 3600))

    @override
    def latest(self, moment: datetime) -> datetime:
        own = self._of(moment.year, moment.month)
        return own if own <= moment else self._of(moment.year - 1, moment.month + 11)

    @override
    def after(self, moment: datetime) -> datetime:
        own = self._of(moment.year, moment.month)
        return own if own > moment else self._of(moment.year, moment.month + 1)


@dataclass(frozen=True)
class Cron(_Between, Ticks):
    """By local time. A time that is skipped in spring comes right after the gap; one that occurs twice in autumn comes once; what comes
    every hour or more often follows elapsed time (as cron itself does).
    """

    expression: str
    zone: str

    @override
    def after(self, moment: datetime) -> datetime:
        return next(CronSim(self.expression, moment.astimezone(ZoneInfo(self.zone)))).astimezone(UTC)

    @override
    def latest(self, moment: datetime) -> datetime:
        # The one before the next whole minute: going back, the moment itself does not count.
        local = (moment + timedelta(minutes=1)).replace(second=0, microsecond=0).astimezone(ZoneInfo(self.zone))
        return next(CronSim(self.expression, local, reverse=True)).astimezone(UTC)

    @override
    def between(self, after: datetime, until: datetime) -> Iterator[datetime]:
        for local in CronSim(self.expression, after.astimezone(ZoneInfo(self.zone))):
            tick = local.astimezone(UTC)
            if tick > until:
                return
            yield tick
