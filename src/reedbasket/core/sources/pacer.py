"""Keeping a source's pace: waiting for a turn, and learning from answers."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from typing_extensions import override

from ..errors import QuotaExhausted, RunCancelled, SourceCoolingDown
from ..spec.http import Pace, Retry
from .pace import PaceState, RateLimitFeedback, Wait, apply_feedback, delayed, reserve
from .retry import LONGEST_OBEYED_SECONDS

# How soon to look again when all places at once are taken. Short against any request that crosses a network.
LOOK_AGAIN_SECONDS = 0.02
# A source that rests after failures is waited for this long; a longer rest ends the run, which says when it is over.
LONGEST_REST_WAITED_SECONDS = 60.0
# Waits from this length on are told while they last.
TOLD_SECONDS = 1.0

Told = Callable[[Wait], None]


class Pacer(Protocol):
    """Held by one run; the state behind it may be shared by many processes. Thread-safe; more threads may wait than requests are allowed
    at once.
    """

    def turn(self, stop: threading.Event, told: Told) -> QueuePlace:
        """Wait for a turn.

        Args:
            stop: ends the wait.
            told: is told about a longer wait before it begins.

        Raises:
            RunCancelled: `stop` is set.
            SourceCoolingDown: the source has failed repeatedly.
            QuotaExhausted: the quota is used up for longer than a run waits.
        """

    def close(self) -> None:
        """Nothing more is requested for now."""


class QueuePlace(Protocol):
    """The right to send one request.

    Attributes:
        waited_seconds: how long it took to get.
    """

    waited_seconds: float

    def done(self, said: RateLimitFeedback) -> None:
        """Give the place back, and share what the answer said."""


def wait_or_stop(stop: threading.Event, seconds: float, doing: str) -> None:
    """Wait.

    Raises:
        RunCancelled: `stop` is set meanwhile.
    """
    if stop.wait(max(0.0, seconds)):
        raise RunCancelled(doing, found="the run was cancelled while waiting")


def require_short_wait(source: str, state: PaceState, wait: Wait) -> None:
    """Check that a wait is short enough for a run, which occupies a worker meanwhile.

    Raises:
        SourceCoolingDown: the source has failed repeatedly.
        QuotaExhausted: the quota is used up for longer.
    """
    if state.rests_until and wait.seconds > LONGEST_REST_WAITED_SECONDS and wait.why.startswith("it failed"):
        raise SourceCoolingDown(
            "waiting for a turn at",
            source,
            found=f"{wait.why} for {wait.seconds:.0f} s more",
            fix="check that it is up; a run after that sends one request, and continues if it is answered",
        )
    if wait.seconds > LONGEST_OBEYED_SECONDS:
        raise QuotaExhausted(
            "waiting for a turn at",
            source,
            found=f"{wait.why}; the next request may be sent in {wait.seconds / 60:.0f} minutes",
            fix="run again then (what was committed stays), or ask whoever runs the source for a larger quota",
        )


class LocalPacer(Pacer):
    """A pacer for one process: tests, benchmarks, trying a connector by hand. `_lock` guards the state."""

    def __init__(self, pace: Pace, retry: Retry | None = None) -> None:
        self._pace = pace
        self._retry = retry or Retry()
        self._state = PaceState()
        self._places = threading.Semaphore(pace.concurrency)
        self._lock = threading.Lock()

    @override
    def turn(self, stop: threading.Event, told: Told) -> QueuePlace:
        began = time.monotonic()
        while not self._places.acquire(timeout=LOOK_AGAIN_SECONDS):
            if stop.is_set():
                raise RunCancelled("waiting for a turn", found="the run was cancelled while waiting")
        try:
            with self._lock:
                state, wait = reserve(self._pace, self._state, time.time())
                require_short_wait("the source", self._state, wait)
                self._state = state
            if wait.seconds > 0:
                if wait.seconds >= TOLD_SECONDS:
                    told(wait)
                due = time.monotonic() + wait.seconds
                wait_or_stop(stop, wait.seconds, "waiting for a turn")
                with self._lock:
                    self._state = delayed(self._state, time.monotonic() - due)
        except BaseException:
            self._places.release()
            raise
        return _LocalTurn(self, time.monotonic() - began)

    @override
    def close(self) -> None:
        pass

    def _done(self, said: RateLimitFeedback) -> None:
        with self._lock:
            self._state = apply_feedback(self._retry, self._state, time.time(), said)
        self._places.release()


@dataclass(frozen=True)
class _LocalTurn(QueuePlace):
    pacer: LocalPacer
    waited_seconds: float

    @override
    def done(self, said: RateLimitFeedback) -> None:
        self.pacer._done(said)
