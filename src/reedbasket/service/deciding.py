"""What is due in a feed's schedule. It is decided once, and saved in one transaction with how far it was decided."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import datetime, timedelta
from itertools import islice

from ..core.spec.schedule import Schedule
from ..core.spec.schedule_times import Ticks, share, ticks_of
from ..core.spec.time_steps import Window
from ..core.spec.times import format_time, parse_time
from ..core.spec.window_grid import Grid, covered, grid_of
from ..store import feed_status
from ..store import schedule as kept
from ..store.database import text_of

# What begins within so long of its moment was not missed.
ON_TIME = timedelta(seconds=60)
# Windows decided at once: a transaction stays short, however long ago the first window lies.
_AT_ONCE = 2000
# A machine's clock that was set back: what was decided lies in a future that will come once more.
_SET_BACK = timedelta(minutes=2)
_INSTANT = timedelta(microseconds=1)


def decide(
    connection: sqlite3.Connection,
    feed: str,
    schedules: Mapping[str, Schedule | None],
    now: datetime,
    *,
    busy: bool,
    paused: bool,
) -> tuple[datetime | None, str]:
    """(when to look again, None for when something happens; why a moment was skipped, ''). Within the caller's transaction.

    Args:
        busy: a run of the feed is queued or running.
        paused: whatever comes due waits for `resume`, and then counts as missed.
    """
    schedule = schedules[feed]
    assert schedule is not None
    rule = schedule.model_dump_json(by_alias=True)
    clock = kept.clock(connection, feed)
    grid = grid_of(feed, schedules)
    if clock is None or clock.rule != rule:
        clock = _begun(connection, feed, schedule, rule, clock, grid, now)
        kept.save_clock(connection, feed, clock)
    if paused:
        return None, ""
    ticks = ticks_of(schedule, feed)
    if ticks is not None:
        return _tick(connection, feed, schedule, ticks, clock, now, busy=busy)
    if schedule.after is not None:
        _follow(connection, feed, schedule, grid, clock, now)
        return None, ""
    assert grid is not None
    return _windows(connection, feed, schedule, grid, clock, now), ""


def _begun(
    connection: sqlite3.Connection,
    feed: str,
    schedule: Schedule,
    rule: str,
    before: kept.Clock | None,
    grid: Grid | None,
    now: datetime,
) -> kept.Clock:
    """The clock of a new schedule: moments count from now on, windows from the first, or from where another grid of windows ended."""
    if grid is not None:
        until = grid.start
        if before is not None and _had_windows(connection, feed):
            until = max(until, parse_time(before.decided_until))
        return kept.Clock(rule, format_time(until), 0, None)
    newest = 0
    if schedule.after is not None:
        newest = feed_status.newest_success(connection, schedule.after)
    return kept.Clock(rule, format_time(now), newest, None)


def _had_windows(connection: sqlite3.Connection, feed: str) -> bool:
    return (
        connection.execute("select 1 from due_window where feed = ? and backfill = 0 limit 1", (feed,)).fetchone() is not None
    )


def _tick(
    connection: sqlite3.Connection, feed: str, schedule: Schedule, ticks: Ticks, clock: kept.Clock, now: datetime, *, busy: bool
) -> tuple[datetime, str]:
    decided = parse_time(clock.decided_until)
    if decided > now + _SET_BACK:
        decided = now
        kept.save_clock(connection, feed, replace(clock, decided_until=format_time(now)))
    due = ticks.latest(now)
    if due + _held_back(schedule, feed, due) > now:
        due = ticks.latest(due - _INSTANT)
    following = ticks.after(max(due, decided))
    look_again = following + _held_back(schedule, feed, following)
    if due <= decided:
        return look_again, ""
    waiting: str | None = format_time(due)
    why = ""
    if schedule.missed_runs == "none" and now - due - _held_back(schedule, feed, due) > ON_TIME:
        waiting = None
    elif busy and schedule.while_running == "skip":
        waiting, why = (
            None,
            f"it was due at {format_time(due)}, while this run was in progress; `while_running: queue` would run it afterwards",
        )
    kept.save_clock(connection, feed, replace(clock, decided_until=format_time(due), waiting=waiting or clock.waiting))
    return look_again, why


def _held_back(schedule: Schedule, feed: str, tick: datetime) -> timedelta:
    return schedule.jitter * share(feed, format_time(tick)) if schedule.jitter else timedelta(0)


def _windows(
    connection: sqlite3.Connection, feed: str, schedule: Schedule, grid: Grid, clock: kept.Clock, now: datetime
) -> datetime:
    decided = parse_time(clock.decided_until)
    found = list(islice(_come(schedule, feed, grid, decided, now), _AT_ONCE))
    if found:
        rows = _with_states(schedule, grid, found, now, more=len(found) == _AT_ONCE)
        kept.add_windows(connection, feed, 0, rows)
        decided = found[-1][1]
        kept.save_clock(connection, feed, replace(clock, decided_until=format_time(decided)))
    if len(found) == _AT_ONCE:
        return now
    ends = next(grid.from_(decided))[1]
    return ends + grid.lag + _held_back(schedule, feed, ends)


def _come(schedule: Schedule, feed: str, grid: Grid, decided: datetime, now: datetime) -> Iterator[Window]:
    for window in grid.due(decided, now):
        if window[1] + grid.lag + _held_back(schedule, feed, window[1]) > now:
            return
        yield window


def _with_states(
    schedule: Schedule, grid: Grid, found: list[Window], now: datetime, *, more: bool
) -> Iterator[tuple[str, str, str, kept.WindowState]]:
    """What `missed` makes of windows that are over. more: others come behind these."""
    for place, (begins, ends) in enumerate(found):
        missed = now - ends - grid.lag > ON_TIME
        last = place == len(found) - 1 and not more
        takes = schedule.missed_runs == "all" or not missed or (schedule.missed_runs == "latest" and last)
        state: kept.WindowState = "waiting" if takes else "skipped"
        yield format_time(begins), format_time(ends), text_of(ends + grid.lag), state


def _follow(
    connection: sqlite3.Connection, feed: str, schedule: Schedule, grid: Grid | None, clock: kept.Clock, now: datetime
) -> None:
    """For a feed that follows another: a run for each of its runs, or a window once all of it lies in windows that are loaded."""
    assert schedule.after is not None
    if grid is None:
        newest = feed_status.newest_success(connection, schedule.after)
        if newest > clock.after_run:
            kept.save_clock(connection, feed, replace(clock, after_run=newest, waiting=format_time(now)))
        return
    decided, found = parse_time(clock.decided_until), []
    for window in islice(grid.from_(decided), _AT_ONCE):
        below = (window[0] - schedule.shift, window[1] - schedule.shift)
        done = kept.done_within(connection, schedule.after, *map(format_time, below))
        if not covered(below, [(parse_time(begin), parse_time(end)) for begin, end in done]):
            break
        found.append(window)
    if found:
        rows = ((format_time(begin), format_time(end), text_of(now), "waiting") for begin, end in found)
        kept.add_windows(connection, feed, 0, rows)  # type: ignore[arg-type]
        kept.save_clock(connection, feed, replace(clock, decided_until=format_time(found[-1][1])))
