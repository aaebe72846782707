"""What is decided of a schedule, by a clock of the test's own: missed moments, overlaps, windows, feeds behind others."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome
from reedbasket.core.spec.schedule import Schedule
from reedbasket.service.deciding import decide
from reedbasket.store import Store, runs, schedule

NOON = datetime(2026, 3, 10, 12, tzinfo=UTC)
HOUR = timedelta(hours=1)


class Feeds:
    """Schedules of feeds in a store, and a clock that the test moves."""

    def __init__(self, folder: Path, **rules: dict[str, Any]) -> None:
        self.store = Store(folder)
        self.store.upgrade()
        self.rules: dict[str, Schedule | None] = {name: Schedule.model_validate(rule) for name, rule in rules.items()}
        self.now = NOON

    def look(self, feed: str = "f", *, after: timedelta = timedelta(0), busy: bool = False, paused: bool = False) -> str | None:
        """What waits afterwards: the moment that does."""
        self.now += after
        with self.store.transaction() as connection:
            self.again, self.why = decide(connection, feed, self.rules, self.now, busy=busy, paused=paused)
            clock = schedule.clock(connection, feed)
        return clock.waiting if clock else None

    def begin(self, feed: str = "f") -> None:
        """What the scheduler does with what waits."""
        with self.store.transaction() as connection:
            clock = schedule.clock(connection, feed)
            assert clock is not None
            schedule.save_clock(connection, feed, schedule.Clock(clock.rule, clock.decided_until, clock.after_run))

    def states(self, feed: str = "f") -> list[str]:
        """Of its windows, the oldest first: '9 waiting'."""
        found = schedule.windows_of(self.store, feed, limit=5000)
        return [f"{one['begins'][11:16]} {one['state']}" for one in reversed(found)]

    def done(self, feed: str = "f", *, but: tuple[str, ...] = ()) -> None:
        with self.store.transaction() as connection:
            connection.execute("update due_window set state = 'done' where feed = ? and state = 'waiting'", (feed,))
            for begins in but:
                connection.execute("update due_window set state = 'failed' where feed = ? and begins = ?", (feed, begins))


def test_a_new_schedule_begins_with_the_next_moment(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"cron": "0 * * * *"})
    assert feeds.look() is None
    assert feeds.again == NOON + HOUR
    assert feeds.look(after=HOUR) == "2026-03-10T13:00:00Z"
    feeds.begin()
    assert feeds.look() is None
    feeds.rules["f"] = Schedule.model_validate({"cron": "30 * * * *"})
    assert feeds.look(after=timedelta(minutes=20)) is None
    assert feeds.look(after=timedelta(minutes=10)) == "2026-03-10T13:30:00Z"


@pytest.mark.parametrize(("missed", "expected"), [("latest", "2026-03-10T17:00:00Z"), ("none", None)])
def test_what_was_missed_is_caught_up_as_said(tmp_path: Path, missed: str, expected: str | None) -> None:
    """The service was down from noon until twenty past five."""
    feeds = Feeds(tmp_path, f={"cron": "0 * * * *", "missed": missed})
    feeds.look()
    assert feeds.look(after=5 * HOUR + timedelta(minutes=20)) == expected
    feeds.begin()
    assert feeds.look() is None
    assert feeds.look(after=timedelta(minutes=40)) == "2026-03-10T18:00:00Z"


@pytest.mark.parametrize(("overlap", "expected"), [("queue", "2026-03-10T13:00:00Z"), ("skip", None)])
def test_a_moment_while_a_run_goes_on(tmp_path: Path, overlap: str, expected: str | None) -> None:
    feeds = Feeds(tmp_path, f={"cron": "0 * * * *", "while_running": overlap})
    feeds.look()
    assert feeds.look(after=HOUR, busy=True) == expected
    assert ("while this run was in progress" in feeds.why) == (expected is None)
    assert feeds.look(busy=True) == expected
    assert feeds.why == ""


def test_a_paused_feed_catches_up_when_it_is_resumed(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"every": "1h"})
    feeds.look()
    assert feeds.look(after=7 * HOUR, paused=True) is None
    waiting = feeds.look()
    assert waiting is not None
    assert timedelta(0) <= feeds.now - datetime.fromisoformat(waiting) < HOUR


def test_jitter_holds_back_by_a_part_that_is_the_same_each_time_it_is_asked(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"cron": "0 * * * *", "jitter": "20m"})
    feeds.look()
    begun = []
    for _ in range(12 * 60):
        if feeds.look(after=timedelta(minutes=1)):
            begun.append(feeds.now)
            feeds.begin()
    assert len(begun) in (11, 12)
    assert all(moment.minute <= 21 for moment in begun)
    assert len({moment.minute for moment in begun}) > 3


def test_a_clock_that_jumps_runs_nothing_twice_and_stops_nothing(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"every": "1m"}, w={"windows": {"from": "2026-03-10T11:00:00Z", "length": "10m"}})
    feeds.look()
    feeds.look("w")
    assert feeds.look(after=timedelta(days=3)) is not None
    feeds.begin()
    feeds.look("w")
    windows = len(feeds.states("w"))
    feeds.now = NOON
    assert feeds.look() is None
    feeds.look("w")
    assert len(feeds.states("w")) == windows
    # Back where it was, it goes on within a minute, and does not wait for three days to pass.
    assert feeds.look(after=timedelta(seconds=61)) is not None


@pytest.mark.parametrize(
    ("more", "expected"),
    [
        ({}, ["08:00 waiting", "09:00 waiting", "10:00 waiting", "11:00 waiting"]),
        ({"missed": "latest"}, ["08:00 skipped", "09:00 skipped", "10:00 skipped", "11:00 waiting"]),
        ({"missed": "none"}, ["08:00 skipped", "09:00 skipped", "10:00 skipped", "11:00 skipped"]),
    ],
)
def test_windows_of_the_past(tmp_path: Path, more: dict[str, Any], expected: list[str]) -> None:
    feeds = Feeds(tmp_path, f={"windows": {"from": "2026-03-10T08:00:00Z", "length": "1h", "delay": "5m"}, **more})
    feeds.now = NOON + timedelta(minutes=10)
    feeds.look()
    assert feeds.states() == expected
    assert feeds.again == NOON + timedelta(hours=1, minutes=5)
    feeds.look(after=timedelta(minutes=55, seconds=1))
    assert feeds.states() == [*expected, "12:00 waiting"]


def test_the_newest_window_may_come_first(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"windows": {"from": "2026-03-10T08:00:00Z", "length": "1h"}})
    feeds.look()
    for newest, begins in ((False, "08"), (True, "11")):
        found = schedule.next_waiting(feeds.store.connection, "f", newest=newest)
        assert found is not None
        assert found["begins"][11:13] == begins


def test_another_step_goes_on_where_the_old_windows_ended(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"windows": {"from": "2026-03-10T08:00:00Z", "length": "1h"}})
    feeds.look()
    feeds.rules["f"] = Schedule.model_validate({"windows": {"from": "2026-03-10T00:00:00Z", "length": "5h"}})
    feeds.look(after=5 * HOUR)
    found = [(w["begins"][11:16], w["ends"][11:16]) for w in reversed(schedule.windows_of(feeds.store, "f"))]
    assert found[-2:] == [("11:00", "12:00"), ("12:00", "15:00")]


def test_many_windows_are_decided_bit_by_bit(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, f={"windows": {"from": "2016-01-01", "length": "1d"}, "missed": "latest"})
    looks = 0
    while (feeds.look(), feeds.again)[1] == feeds.now:
        looks += 1
    assert looks == 1
    assert schedule.window_counts(feeds.store, "f") == {"skipped": 3720, "waiting": 1}


def test_a_feed_behind_another_waits_for_all_of_its_windows(tmp_path: Path) -> None:
    feeds = Feeds(
        tmp_path,
        hours={"windows": {"from": "2026-03-10T00:00:00Z", "length": "1h"}},
        f={"after": "hours", "windows_per_run": 4, "shift": "30m"},
    )
    feeds.look("hours")
    feeds.look()
    assert feeds.states() == []
    feeds.done("hours", but=("2026-03-10T05:00:00Z",))
    feeds.look()
    # Each is half an hour later than the hours it stands on; the one that failed holds up all that stand on it.
    assert feeds.states() == ["00:30 waiting"]
    schedule.requeue_windows(feeds.store, "hours", "2026-03-10T05:00:00Z", "2026-03-10T06:00:00Z")
    feeds.done("hours")
    feeds.look()
    assert feeds.states() == ["00:30 waiting", "04:30 waiting", "08:30 waiting"]


def test_a_feed_behind_one_without_windows_runs_after_each_success(tmp_path: Path) -> None:
    feeds = Feeds(tmp_path, first={"every": "1h"}, f={"after": "first"})

    def first_runs(outcome: RunOutcome) -> None:
        run = runs.ask(feeds.store, runs.RunRequest("first", 1))
        runs.take(feeds.store, run, 1)
        runs.end(feeds.store, run, outcome, None)

    first_runs(RunOutcome.SUCCEEDED)
    assert feeds.look() is None  # before this schedule was there
    first_runs(RunOutcome.FAILED)
    assert feeds.look() is None
    first_runs(RunOutcome.SUCCEEDED)
    assert feeds.look() is not None
    feeds.begin()
    assert feeds.look() is None
