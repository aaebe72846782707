"""Starts runs that are due. One thread: it is told whatever happens to a feed, looks at that feed, and starts what may start."""

from __future__ import annotations

import heapq
import logging
import sqlite3
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from ..core.errors import ReedError
from ..core.spec import Basket
from ..core.spec.schedule import Schedule
from ..core.spec.schedule_times import ticks_of
from ..core.spec.window_grid import grid_of
from ..store import Store, definitions, feed_status, journal, notifications, runs, schedule
from ..store.database import text_of
from .deciding import decide
from .run_closing import NotificationRules, add_notification, follow_up
from .workers import Workers

log = logging.getLogger("reedbasket.scheduler")
# What waits for its next attempt, a silent worker, a feed that becomes late: looked at this often.
_LOOK_SECONDS = 1.0
_LATE_SECONDS = 5.0
# All feeds are looked at this often whatever happens: clocks jump, and other programs may write into the store.
_ALL_SECONDS = 60.0


class Scheduler:
    """`_changed` guards the feeds to look at and the runs that have ended; everything else belongs to the thread."""

    def __init__(
        self,
        store: Store,
        workers: Workers,
        telling: NotificationRules,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._store = store
        self._workers = workers
        self._telling = telling
        self._clock = clock
        self._changed = threading.Condition()
        self._look_at: set[str] = set()
        self._ended: list[int] = []
        self._all = True
        self._closing = False
        self._heap: list[tuple[datetime, str]] = []
        self._due: dict[str, datetime] = {}
        self._thread = threading.Thread(target=self._work, name="scheduler", daemon=True)

    def start(self) -> None:
        """Start to decide, in a separate thread."""
        with self._changed:
            self._ended += runs.not_followed_up(self._store)
        self._thread.start()

    def stop(self) -> None:
        """Start nothing more."""
        with self._changed:
            self._closing = True
            self._changed.notify()
        if self._thread.is_alive():
            self._thread.join(5)

    def run_ended(self, run: int) -> None:
        """Called by the workers' threads."""
        with self._changed:
            self._ended.append(run)
            self._changed.notify()

    def look(self, feed: str | None = None) -> None:
        """Something changed about a feed; about any of them if none is named."""
        with self._changed:
            if feed is None:
                self._all = True
            else:
                self._look_at.add(feed)
            self._changed.notify()

    # The thread

    def _work(self) -> None:
        looked_late = looked_all = 0.0
        while True:
            with self._changed:
                if not (self._all or self._look_at or self._ended or self._closing):
                    self._changed.wait(self._rest())
                if self._closing:
                    return
                ended, self._ended = self._ended, []
                look_at, self._look_at = self._look_at, set()
                everything, self._all = self._all, False
            now = time.monotonic()
            everything = everything or now - looked_all >= _ALL_SECONDS
            looked_all = now if everything else looked_all
            if not self._went(self._pass, ended, look_at, everything):
                with self._changed:
                    self._ended = ended + self._ended
                    self._all = True
                time.sleep(_LOOK_SECONDS)
            # Whatever is wrong with what is due: what waits in the queue begins.
            self._went(self._workers.maintain)
            self._went(self._workers.dispatch)
            if now - looked_late >= _LATE_SECONDS and self._went(self._tell_late):
                looked_late = now

    def _went(self, step: Callable[..., None], *given: Any) -> bool:
        """Whether a step succeeded. If the disk is full or the store is locked, nothing was decided, and all of it is done again.
        Whatever else goes wrong, this thread is the only one that starts runs, and must not end.
        """
        try:
            step(*given)
        except Exception as error:
            known = isinstance(error, sqlite3.Error | OSError | ReedError)
            log.error("the scheduler failed, and tries again: %s", error, exc_info=None if known else error)
            return False
        return True

    def _rest(self) -> float:
        if not self._heap:
            return _LOOK_SECONDS
        return max(0.0, min(_LOOK_SECONDS, (self._heap[0][0] - self._clock()).total_seconds()))

    def _pass(self, ended: list[int], look_at: set[str], everything: bool) -> None:
        basket = definitions.basket(self._store)
        schedules = {name: one.schedule for name, one in basket.feeds.items()}
        for run in ended:
            feed = self._settled(run)
            if feed is not None:
                look_at.add(feed)
                look_at |= {name for name, one in schedules.items() if one is not None and one.after == feed}
        if everything:
            look_at |= set(basket.feeds)
        now = self._clock()
        while self._heap and self._heap[0][0] <= now:
            moment, feed = heapq.heappop(self._heap)
            if self._due.get(feed) == moment:
                look_at.add(feed)
        paused = set(schedule.paused(self._store))
        for feed in sorted(look_at & set(basket.feeds)):
            try:
                self._look_at_one(feed, schedules, now, paused=feed in paused)
            except (sqlite3.OperationalError, OSError):
                raise
            except Exception as defect:  # see _settled
                log.error("a bug while deciding about %s", feed, exc_info=defect)

    def _settled(self, run: int) -> str | None:
        try:
            return follow_up(self._store, run, self._telling)
        except (sqlite3.OperationalError, OSError):
            raise
        except Exception as defect:  # one that this run alone meets does not keep the others from going on
            log.error("a bug while following up run %s", run, exc_info=defect)
            return None

    def _look_at_one(self, feed: str, schedules: Mapping[str, Schedule | None], now: datetime, *, paused: bool) -> None:
        store, rule = self._store, schedules[feed]
        active = runs.active(store, feed)
        passed_over = ""
        if rule is not None:
            with store.transaction() as connection:
                again, passed_over = decide(connection, feed, schedules, now, busy=active is not None, paused=paused)
            self._look_then(feed, again)
        if passed_over and active is not None:
            journal.add_log(store, active["id"], "info", "schedule.skipped", passed_over)
        if active is None and not paused:
            with suppress(sqlite3.IntegrityError):  # somebody asked for a run in the same moment
                self._begin(feed, newest=rule is not None and rule.order == "newest")

    def _look_then(self, feed: str, moment: datetime | None) -> None:
        if moment is None:
            self._due.pop(feed, None)
        elif self._due.get(feed) != moment:
            self._due[feed] = moment
            heapq.heappush(self._heap, (moment, feed))

    def _begin(self, feed: str, *, newest: bool) -> None:
        """The feed's next run, if one waits."""
        store = self._store
        with store.transaction() as connection:
            version = definitions.feed_version(store, feed)
            clock = schedule.clock(connection, feed)
            if clock is not None and clock.waiting is not None:
                follows = '"after":null' not in clock.rule
                wanted = runs.RunRequest(feed, version, trigger="upstream" if follows else "schedule", due_at=clock.waiting)
                runs.insert(connection, wanted)
                schedule.save_clock(connection, feed, schedule.Clock(clock.rule, clock.decided_until, clock.after_run))
                return
            window = schedule.next_waiting(connection, feed, newest=newest)
            if window is None:
                return
            trigger: runs.Trigger = "backfill" if window["backfill"] else "window"
            wanted = runs.RunRequest(
                feed,
                version,
                trigger=trigger,
                due_at=window["due_at"],
                window=(window["begins"], window["ends"]),
                backfill=window["backfill"],
            )
            schedule.mark_window_running(connection, window["id"], runs.insert(connection, wanted))

    def _tell_late(self) -> None:
        store, now = self._store, self._clock()
        basket, paused = definitions.basket(store), schedule.paused(store)
        for name, feed in basket.feeds.items():
            if feed.fresh_within is None or name in paused:
                continue
            fresh_at = fresh_since(store, name)
            if fresh_at is None or fresh_at > text_of(now - feed.fresh_within):
                continue
            with store.transaction() as connection:
                failing, late = notifications.health(connection, name)
                if not late:
                    notifications.save_health(connection, name, failing=failing, late=True)
                    facts = {"fresh_at": fresh_at, "fresh_within_seconds": feed.fresh_within.total_seconds()}
                    add_notification(connection, "late", feed, None, facts, self._telling)


def fresh_since(store: Store, feed: str) -> str | None:
    """When a run last succeeded; a feed without a successful run is as old as its definition."""
    return feed_status.last_succeeded(store, feed) or definitions.first_applied(store, "feed", feed)


def next_due(basket: Basket, feed: str, now: datetime) -> datetime | None:
    """When a feed's schedule next has something to do, as far as that is known; None if it has no schedule, or follows another feed."""
    rule = basket.feeds[feed].schedule
    if rule is None:
        return None
    ticks = ticks_of(rule, feed)
    if ticks is not None:
        return ticks.after(now)
    if rule.after is not None:
        return None
    grid = grid_of(feed, {feed: rule})
    assert grid is not None
    return next(grid.from_(now - grid.lag))[1] + grid.lag
