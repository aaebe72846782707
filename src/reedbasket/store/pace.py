"""A source's pace, shared by all processes through the store."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from dataclasses import dataclass

from ..core.errors import RunCancelled
from ..core.extract.pace import LOOK_AGAIN_SECONDS, PaceState, Turn, hold_off, reserve, wait_or_stop
from ..core.spec.model import Pace
from .database import Store


class StorePacer:
    """See core.extract.pace.Pacer. The state is a row per source and a row per place taken."""

    def __init__(self, store: Store, source: str, pace: Pace, longest_request_seconds: float) -> None:
        self._store = store
        self._source = source
        self._pace = pace
        # A place is given back by its worker; one left by a killed worker must outlive any request it may still make.
        self._place_seconds = longest_request_seconds + 60.0

    def turn(self, stop: threading.Event) -> Turn:
        began = time.monotonic()
        while True:
            place, wait = self._try()
            if place is not None:
                break
            wait_or_stop(stop, LOOK_AGAIN_SECONDS, "waiting for a turn")
        try:
            if wait:
                wait_or_stop(stop, wait, "waiting for a turn")
        except RunCancelled:
            self._give_back(place)
            raise
        return _StoreTurn(self, place, time.monotonic() - began)

    def hold_off(self, seconds: float) -> None:
        with self._store.transaction() as connection:
            now = time.time()
            state = hold_off(self._state(), now, seconds)
            connection.execute(
                "insert into pace (source, next_at) values (?, ?) on conflict (source) do update set next_at = excluded.next_at",
                (self._source, state.next_at),
            )

    def _state(self) -> PaceState:
        row = self._store.connection.execute("select next_at from pace where source = ?", (self._source,)).fetchone()
        return PaceState(row["next_at"]) if row else PaceState()

    def _try(self) -> tuple[int | None, float]:
        """(place, seconds to wait with it), or (None, 0) where all places are taken."""
        with self._store.transaction() as connection:
            now = time.time()
            connection.execute("delete from pace_place where ends_at < ?", (now,))
            count = "select count(*) from pace_place where source = ?"
            taken = connection.execute(count, (self._source,)).fetchone()[0]
            if taken >= self._pace.at_once and not self._free_dead(connection):
                return None, 0.0
            state, wait = reserve(self._pace, self._state(), now)
            connection.execute(
                "insert into pace (source, next_at) values (?, ?) on conflict (source) do update set next_at = excluded.next_at",
                (self._source, state.next_at),
            )
            made = connection.execute(
                "insert into pace_place (source, worker, ends_at) values (?, ?, ?)",
                (self._source, os.getpid(), now + wait + self._place_seconds),
            )
            return made.lastrowid, wait

    def _free_dead(self, connection: sqlite3.Connection) -> bool:
        """Take back the places of workers that are gone; True where there was one."""
        rows = connection.execute("select distinct worker from pace_place where source = ?", (self._source,)).fetchall()
        dead = [row["worker"] for row in rows if not process_lives(row["worker"])]
        connection.executemany("delete from pace_place where worker = ?", [(pid,) for pid in dead])
        return bool(dead)

    def _give_back(self, place: int) -> None:
        with self._store.transaction() as connection:
            connection.execute("delete from pace_place where id = ?", (place,))


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

    def done(self) -> None:
        self.pacer._give_back(self.place)
