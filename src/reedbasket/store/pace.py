"""A source's pace, shared by all processes through the store."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from dataclasses import asdict, dataclass

import orjson
from typing_extensions import override

from ..core.errors import RunCancelled
from ..core.sources.pace import LATE_SECONDS, PaceState, RateLimitFeedback, Wait, apply_feedback, delayed, is_free, reserve
from ..core.sources.pacer import LOOK_AGAIN_SECONDS, TOLD_SECONDS, Pacer, QueuePlace, Told, require_short_wait, wait_or_stop
from ..core.spec.http import Pace, Retry
from .database import Store

# Whoever has not looked again for so long waits no more.
_WAITER_SECONDS = 1.0
# How soon a thread that waits for another one notices that the run was stopped.
_LISTEN_SECONDS = 0.2
# A place is kept so long for this process's next request; a page takes about as long to be made ready for loading.
_KEPT_SECONDS = 0.05
# And is then had anew from the store, long before others would take it for left behind.
_GOOD_SECONDS = 30.0


class StorePacer(Pacer):
    """See core.sources.pacer.Pacer. The state is a row for each source, a row for each place taken, and a row for each worker that
    waits.
    """

    def __init__(self, store: Store, source: str, pace: Pace, retry: Retry, longest_request_seconds: float) -> None:
        self._store = store
        self._source = source
        self._pace = pace
        self._retry = retry
        # A place is given back by its worker; one left by a killed worker must outlive any request it may still make.
        self._place_seconds = longest_request_seconds + _GOOD_SECONDS + 60.0
        # Guards what is below: places that we have or are getting, those of them that are kept for the next request.
        self._changed = threading.Condition()
        self._held = 0
        self._kept: list[_Place] = []
        self._tidying = False
        self._told_waiting = False

    @override
    def turn(self, stop: threading.Event, told: Told) -> QueuePlace:
        began = time.monotonic()
        handed = self._queue(stop)
        if handed is not None:
            return _StoreTurn(self, handed, time.monotonic() - began)
        try:
            place = self._from_store(stop, told)
        except BaseException:
            self._one_less()
            raise
        return _StoreTurn(self, place, time.monotonic() - began)

    def give_back(self, place: _Place, said: RateLimitFeedback) -> None:
        """Release a place, and share what the answer said about the pace."""
        if self._keep_place(place, said):
            return
        try:
            with self._store.transaction() as connection:
                connection.execute("delete from pace_place where id = ?", (place.id,))
                before = self._state()
                after = apply_feedback(self._retry, before, time.time(), said)
                if after != before:
                    self._keep(connection, after)
        finally:
            self._one_less()

    # Among the threads of this process: a place that is done with is kept for a moment, and the next request takes it without a
    # word to the store, whose write costs as much as all else that a request costs here.

    def _queue(self, stop: threading.Event) -> _Place | None:
        """A place that this process has kept; None if one has to be requested from the store, with our number of waiting threads raised."""
        with self._changed:
            while self._held >= self._pace.concurrency and not self._kept:
                if stop.is_set():
                    raise RunCancelled("waiting for a turn", found="the run was cancelled while waiting")
                self._changed.wait(_LISTEN_SECONDS)
            now = time.time()
            if self._kept and is_free(self._pace, self._state(), now):
                return self._kept.pop()
            if self._kept:  # somebody asked for rest meanwhile: what is kept is as good, but the wait is to be found out
                place = self._kept.pop()
                self._to_store(place)
                return None
            self._held += 1
            return None

    def _keep_place(self, place: _Place, said: RateLimitFeedback) -> bool:
        """Where nothing is to be told, nothing limits how fast, and nobody else is kept waiting."""
        now = time.time()
        if said != RateLimitFeedback() or self._pace.per_hour or self._pace.per_day or place.good_until < now:
            return False
        with self._changed:
            if not is_free(self._pace, self._state(), now) or self._others(now):
                return False
            place.kept_at = time.monotonic()
            self._kept.append(place)
            self._changed.notify()
            if not self._tidying:
                self._tidying = True
                threading.Thread(target=self._tidy, name=f"places {self._source}", daemon=True).start()
            return True

    @override
    def close(self) -> None:
        with self._changed:
            idle, self._kept = self._kept, []
        for place in idle:
            self._to_store(place)
            self._one_less()

    def _tidy(self) -> None:
        """A thread that runs as long as places are kept: places that nobody needs for a moment are released."""
        while True:
            time.sleep(_KEPT_SECONDS)
            with self._changed:
                old = time.monotonic() - _KEPT_SECONDS
                idle = [place for place in self._kept if place.kept_at <= old]
                self._kept = [place for place in self._kept if place.kept_at > old]
                goes_on = self._tidying = bool(self._kept)
            for place in idle:
                self._to_store(place)
                self._one_less()
            if not goes_on:
                self._store.close()
                return

    def _to_store(self, place: _Place) -> None:
        with self._store.transaction() as connection:
            connection.execute("delete from pace_place where id = ?", (place.id,))

    def _one_less(self) -> None:
        with self._changed:
            self._held -= 1
            self._changed.notify()

    # Among processes

    def _from_store(self, stop: threading.Event, told: Told) -> _Place:
        while (taken := self._try()) is None:
            wait_or_stop(stop, LOOK_AGAIN_SECONDS, "waiting for a turn")
        place, wait = taken
        if wait.seconds <= 0:
            return place
        if wait.seconds >= TOLD_SECONDS:
            told(wait)
        due = time.monotonic() + wait.seconds
        try:
            wait_or_stop(stop, wait.seconds, "waiting for a turn")
        except RunCancelled:
            self._to_store(place)
            raise
        late = time.monotonic() - due
        if late > LATE_SECONDS:
            with self._store.transaction() as connection:
                self._keep(connection, delayed(self._state(), late))
        return place

    def _try(self) -> tuple[_Place, Wait] | None:
        """(place, the wait with it); None if all places are taken, or it is somebody else's turn."""
        with self._store.transaction() as connection:
            now = time.time()
            if not self._room(connection, now):
                connection.execute(
                    """insert into pace_waiter (source, worker, seen_at) values (?, ?, ?)
                       on conflict (source, worker) do update set seen_at = excluded.seen_at""",
                    (self._source, os.getpid(), now),
                )
                self._told_waiting = True
                return None
            before = self._state()
            state, wait = reserve(self._pace, before, now)
            require_short_wait(self._source, before, wait)
            if state != before:
                self._keep(connection, state)
            if self._told_waiting:
                connection.execute("delete from pace_waiter where source = ? and worker = ?", (self._source, os.getpid()))
                self._told_waiting = False
            ends = now + wait.seconds + self._place_seconds
            made = connection.execute(
                "insert into pace_place (source, worker, ends_at) values (?, ?, ?)", (self._source, os.getpid(), ends)
            )
            assert made.lastrowid is not None
            return _Place(made.lastrowid, now + wait.seconds + _GOOD_SECONDS), wait

    def _room(self, connection: sqlite3.Connection, now: float) -> bool:
        """Whether a place is free for us: while others wait, nobody holds more than an equal share."""
        taken = self._taken(connection, now)
        if sum(taken.values()) >= self._pace.concurrency:
            dead = [pid for pid in taken if not process_lives(pid)]
            connection.executemany("delete from pace_place where worker = ?", [(pid,) for pid in dead])
            if not dead:
                return False
            taken = self._taken(connection, now)
        waiting = self._others(now)
        if not waiting:
            return True
        everybody = {os.getpid(), *taken, *waiting}
        return taken.get(os.getpid(), 0) < -(-self._pace.concurrency // len(everybody))

    def _others(self, now: float) -> list[int]:
        """Other workers that wait just now."""
        rows = self._store.connection.execute(
            "select worker from pace_waiter where source = ? and seen_at > ? and worker <> ?",
            (self._source, now - _WAITER_SECONDS, os.getpid()),
        )
        return [row["worker"] for row in rows]

    def _taken(self, connection: sqlite3.Connection, now: float) -> dict[int, int]:
        """{worker: places}"""
        rows = connection.execute(
            "select worker, count(*) as places from pace_place where source = ? and ends_at >= ? group by worker",
            (self._source, now),
        )
        return {row["worker"]: row["places"] for row in rows}

    def _state(self) -> PaceState:
        return state_of(self._store, self._source)

    def _keep(self, connection: sqlite3.Connection, state: PaceState) -> None:
        connection.execute(
            "insert into pace (source, state) values (?, ?) on conflict (source) do update set state = excluded.state",
            (self._source, orjson.dumps(asdict(state)).decode()),
        )


def state_of(store: Store, source: str) -> PaceState:
    """The present state of a source's pace."""
    row = store.connection.execute("select state from pace where source = ?", (source,)).fetchone()
    if row is None:
        return PaceState()
    facts = orjson.loads(row["state"])
    return PaceState(**{**facts, "used": tuple((minute, count) for minute, count in facts["used"])})


def process_lives(pid: int) -> bool:
    """Whether a process of that id runs on this machine."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


@dataclass
class _Place:
    """A row of the store that is ours.

    Attributes:
        good_until: seconds since 1970.
        kept_at: of the monotonic clock.
    """

    id: int
    good_until: float
    kept_at: float = 0.0


@dataclass(frozen=True)
class _StoreTurn(QueuePlace):
    pacer: StorePacer
    place: _Place
    waited_seconds: float

    @override
    def done(self, said: RateLimitFeedback) -> None:
        self.pacer.give_back(self.place, said)
