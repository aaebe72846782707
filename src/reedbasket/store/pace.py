"""A source's pace, shared by all processes through the store."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from dataclasses import asdict, dataclass

import orjson

from ..core.errors import RunCancelled
from ..core.extract.pace import LATE_SECONDS, PaceState, Said, Wait, heard, reserve, slipped
from ..core.extract.pacer import LOOK_AGAIN_SECONDS, TOLD_SECONDS, Told, Turn, require_bearable, wait_or_stop
from ..core.spec.http import Pace, Retry
from .database import Store

# Whoever has not looked again for so long waits no more.
_WAITER_SECONDS = 1.0


class StorePacer:
    """See core.extract.pacer.Pacer. The state is a row per source, a row per place taken, and a row per worker that waits."""

    def __init__(self, store: Store, source: str, pace: Pace, retry: Retry, longest_request_seconds: float) -> None:
        self._store = store
        self._source = source
        self._pace = pace
        self._retry = retry
        # A place is given back by its worker; one left by a killed worker must outlive any request it may still make.
        self._place_seconds = longest_request_seconds + 60.0
        # Threads of one process queue here, where the next is woken at once; SQLite lets those who wait for it look again only now
        # and then.
        self._turn_to_write = threading.Lock()
        self._queued = False

    def turn(self, stop: threading.Event, told: Told) -> Turn:
        began = time.monotonic()
        while (taken := self._try()) is None:
            wait_or_stop(stop, LOOK_AGAIN_SECONDS, "waiting for a turn")
        place, wait = taken
        if wait.seconds > 0:
            if wait.seconds >= TOLD_SECONDS:
                told(wait)
            due = time.monotonic() + wait.seconds
            try:
                wait_or_stop(stop, wait.seconds, "waiting for a turn")
            except RunCancelled:
                self.give_back(place, Said(failed=None))
                raise
            late = time.monotonic() - due
            if late > LATE_SECONDS:
                with self._turn_to_write, self._store.transaction() as connection:
                    self._keep(connection, slipped(self._state(), late))
        return _StoreTurn(self, place, time.monotonic() - began)

    def give_back(self, place: int, said: Said) -> None:
        with self._turn_to_write, self._store.transaction() as connection:
            connection.execute("delete from pace_place where id = ?", (place,))
            before = self._state()
            after = heard(self._retry, before, time.time(), said)
            if after != before:
                self._keep(connection, after)

    def _try(self) -> tuple[int, Wait] | None:
        """(place, the wait with it), or None where all places are taken, or are somebody else's turn."""
        with self._turn_to_write, self._store.transaction() as connection:
            now = time.time()
            if not self._room(connection, now):
                connection.execute(
                    """insert into pace_waiter (source, worker, seen_at) values (?, ?, ?)
                       on conflict (source, worker) do update set seen_at = excluded.seen_at""",
                    (self._source, os.getpid(), now),
                )
                self._queued = True
                return None
            before = self._state()
            state, wait = reserve(self._pace, before, now)
            require_bearable(self._source, before, wait)
            if state != before:
                self._keep(connection, state)
            if self._queued:
                connection.execute("delete from pace_waiter where source = ? and worker = ?", (self._source, os.getpid()))
                self._queued = False
            made = connection.execute(
                "insert into pace_place (source, worker, ends_at) values (?, ?, ?)",
                (self._source, os.getpid(), now + wait.seconds + self._place_seconds),
            )
            assert made.lastrowid is not None
            return made.lastrowid, wait

    def _room(self, connection: sqlite3.Connection, now: float) -> bool:
        """Whether a place is free, and ours to take: while others wait, nobody holds more than an equal share."""
        taken = self._taken(connection, now)
        if sum(taken.values()) >= self._pace.at_once:
            dead = [pid for pid in taken if not process_lives(pid)]
            connection.executemany("delete from pace_place where worker = ?", [(pid,) for pid in dead])
            if not dead:
                return False
            taken = self._taken(connection, now)
        waiting = connection.execute(
            "select worker from pace_waiter where source = ? and seen_at > ? and worker <> ?",
            (self._source, now - _WAITER_SECONDS, os.getpid()),
        ).fetchall()
        if not waiting:
            return True
        everybody = {os.getpid(), *taken, *(row["worker"] for row in waiting)}
        return taken.get(os.getpid(), 0) < -(-self._pace.at_once // len(everybody))

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
    """What everybody who asks a source shares just now."""
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


@dataclass(frozen=True)
class _StoreTurn:
    pacer: StorePacer
    place: int
    waited_seconds: float

    def done(self, said: Said) -> None:
        self.pacer.give_back(self.place, said)
