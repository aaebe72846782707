"""Windows of time, and how those of one feed relate to those of another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from .schedule import Schedule
from .time_steps import Window, floor, following
from .times import Step, format_duration

_NOTHING = timedelta(0)


@dataclass(frozen=True)
class Grid:
    """Where windows begin and end: the first one at `start`, each a step long, due `lag` after its end."""

    start: datetime
    step: Step
    lag: timedelta = _NOTHING

    def from_(self, begin: datetime) -> Iterator[Window]:
        """Windows from a moment on, without end. A moment between two boundaries begins a shorter one."""
        begin = max(begin, self.start)
        end = following(self.step, self.start, floor(self.step, self.start, begin))
        while True:
            yield begin, end
            begin, end = end, following(self.step, self.start, end)

    def due(self, begin: datetime, now: datetime) -> Iterator[Window]:
        """Windows from a moment on that are over, including the lag."""
        for window in self.from_(begin):
            if window[1] + self.lag > now:
                return
            yield window


def grid_of(feed: str, schedules: Mapping[str, Schedule | None]) -> Grid | None:
    """The windows of a feed, its own or those that it follows; None if it has none.

    Args:
        schedules: of all feeds, without cycles.
    """
    schedule = schedules.get(feed)
    if schedule is None:
        return None
    own = Grid(schedule.windows.start, schedule.windows.length, schedule.windows.delay) if schedule.windows else None
    if schedule.after is None or own is not None:
        return own
    below = grid_of(schedule.after, schedules)
    if below is None:
        return None
    step = below.step if schedule.windows_per_run == 1 or below.step == "month" else below.step * schedule.windows_per_run
    return Grid(below.start + schedule.shift, step)


def misalignment(feed: str, schedules: Mapping[str, Schedule | None]) -> str | None:
    """Why a feed's windows do not line up with those of the feed that it follows, and what would fix it; None if they do."""
    schedule = schedules[feed]
    assert schedule is not None and schedule.after is not None
    below, own = grid_of(schedule.after, schedules), grid_of(feed, schedules)
    if below is None:
        if schedule.windows is not None or schedule.shift or schedule.windows_per_run > 1:
            return f"{schedule.after} has no windows that these could follow; use `after` alone, or give that feed windows"
        return None
    assert own is not None
    if below.step == "month":
        if own.step != "month":
            return f"windows of {schedule.after} are months, and these are not; say `length: month`, or leave `windows` out"
        if schedule.windows_per_run > 1:
            return f"windows of {schedule.after} are months, which `windows_per_run` cannot join; leave it out"
        return (
            None if own.start == below.start + schedule.shift else f"begin at {below.start + schedule.shift:%Y-%m-%dT%H:%M:%SZ}"
        )
    step = timedelta(days=1) if own.step == "month" else own.step
    assert isinstance(step, timedelta)
    if step % below.step or step < below.step:
        return (
            f"windows of {_words(own.step)} are not multiples of those of {schedule.after}, {_words(below.step)} each; "
            f"take a multiple of {_words(below.step)}"
        )
    beside = (own.start - schedule.shift - below.start) % below.step
    if beside:
        fitting = (own.start - below.start) % below.step
        return (
            f"windows begin {_words(beside)} after those of {schedule.after}; `shift: {_words(fitting)}` would fit, "
            f"or a `from` that is {_words(beside)} earlier"
        )
    return None


def covered(wanted: Window, done: Sequence[Window]) -> bool:
    """Whether windows, in order, cover a window without a gap."""
    reached = wanted[0]
    for begin, end in done:
        if begin > reached:
            return False
        reached = max(reached, end)
        if reached >= wanted[1]:
            return True
    return reached >= wanted[1]


def _words(step: Step) -> str:
    return step if isinstance(step, str) else format_duration(step)
