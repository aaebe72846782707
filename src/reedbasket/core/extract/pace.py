"""Pace: a source's limits, held by everyone who asks it. The arithmetic is pure; who keeps the state is behind `Pacer`."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Protocol

from ..errors import RunCancelled
from ..spec.model import Pace

# How soon to look again when all places at once are taken. Short against any request that crosses a network.
LOOK_AGAIN_SECONDS = 0.02


@dataclass(frozen=True)
class PaceState:
    """next_at: the earliest wall-clock second of the next request, by rate or because the source asked for rest."""

    next_at: float = 0.0


def reserve(pace: Pace, state: PaceState, now: float) -> tuple[PaceState, float]:
    """Take the next free moment: (state after, seconds to wait). Requests are spread evenly, 1/per_second apart."""
    start = max(now, state.next_at)
    gap = 1.0 / pace.per_second if pace.per_second else 0.0
    return replace(state, next_at=start + gap), start - now


def hold_off(state: PaceState, now: float, seconds: float) -> PaceState:
    """Nobody asks again before `seconds` have passed."""
    return replace(state, next_at=max(state.next_at, now + seconds))


class Pacer(Protocol):
    """Held by one run; the state behind it may be shared by many processes."""

    def turn(self, stop: threading.Event) -> Turn:
        """Wait for our turn, listening to `stop`. Raises RunCancelled."""

    def hold_off(self, seconds: float) -> None:
        """The source asked everyone to rest."""


class Turn(Protocol):
    @property
    def waited_seconds(self) -> float: ...

    def done(self) -> None:
        """Give the place back."""


@contextmanager
def taking_turn(pacer: Pacer, stop: threading.Event) -> Iterator[float]:
    """The seconds waited; the place is given back at the end whatever happened."""
    turn = pacer.turn(stop)
    try:
        yield turn.waited_seconds
    finally:
        turn.done()


def wait_or_stop(stop: threading.Event, seconds: float, doing: str) -> None:
    """Sleep that listens. Raises RunCancelled."""
    if stop.wait(max(0.0, seconds)):
        raise RunCancelled(doing, found="the run was cancelled while waiting")


class LocalPacer:
    """A pacer for one process: tests, benchmarks, trying a connector by hand. `_lock` guards the state and the count."""

    def __init__(self, pace: Pace) -> None:
        self._pace = pace
        self._state = PaceState()
        self._places = threading.Semaphore(pace.at_once)
        self._lock = threading.Lock()

    def turn(self, stop: threading.Event) -> Turn:
        began = time.monotonic()
        while not self._places.acquire(timeout=LOOK_AGAIN_SECONDS):
            if stop.is_set():
                raise RunCancelled("waiting for a turn", found="the run was cancelled while waiting")
        with self._lock:
            self._state, wait = reserve(self._pace, self._state, time.time())
        try:
            if wait:
                wait_or_stop(stop, wait, "waiting for a turn")
        except RunCancelled:
            self._places.release()
            raise
        return _LocalTurn(self._places, time.monotonic() - began)

    def hold_off(self, seconds: float) -> None:
        with self._lock:
            self._state = hold_off(self._state, time.time(), seconds)


@dataclass(frozen=True)
class _LocalTurn:
    places: threading.Semaphore
    waited_seconds: float

    def done(self) -> None:
        self.places.release()
