"""A queue between threads, limited in bytes, so that memory stays flat."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Iterator
from typing import Generic, Protocol, Self, TypeVar

from ..errors import RunCancelled

# Bodies waiting to be loaded. As parsed objects they take five to eight times as much.
MOST_WAITING_BYTES = 6 * 1024 * 1024
# How soon a full or empty queue notices that the run was stopped.
_LOOK_SECONDS = 0.5


class QueuedItem(Protocol):
    """An item with a size."""

    @property
    def body_bytes(self) -> int:
        """How much of the queue's room it takes."""


Waiting = TypeVar("Waiting", bound=QueuedItem)


class BoundedQueue(Generic[Waiting]):
    """For several producers and one consumer. `_lock` guards everything below it."""

    def __init__(self, most_bytes: int = MOST_WAITING_BYTES) -> None:
        self._most_bytes = most_bytes
        self._lock = threading.Lock()
        self._there, self._room = threading.Condition(self._lock), threading.Condition(self._lock)
        self._waiting: deque[Waiting] = deque()
        self._bytes = 0
        self._ended = False
        self._error: BaseException | None = None
        self.closed = False
        # Whoever takes is to wait no longer once this is set.
        self.stop: threading.Event | None = None
        # Seconds that were spent until something was there, and not waiting for room.
        self.reading_seconds = 0.0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """The consumer needs nothing more: producers wait no longer."""
        with self._lock:
            self.closed = True
            self._waiting.clear()
            self._bytes = 0
            self._there.notify_all()
            self._room.notify_all()

    # Who takes

    def __iter__(self) -> Iterator[Waiting]:
        """The items in order; then the error that the queue ended with, if any.

        Raises:
            RunCancelled: the run was cancelled.
        """
        while True:
            with self._lock:
                while not self._waiting and not self._ended:
                    if self.stop is not None and self.stop.is_set():
                        raise RunCancelled("reading", found="the run was cancelled; what was committed stays")
                    self._there.wait(_LOOK_SECONDS)
                if not self._waiting:
                    if self._error is not None:
                        raise self._error
                    return
                one = self._waiting.popleft()
                self._bytes -= one.body_bytes
                self._wake_one_for_room()
            yield one

    # Who puts

    def put(self, one: Waiting) -> bool:
        """Add an item once there is room. False if nothing more is needed."""
        with self._lock:
            while self._bytes >= self._most_bytes and not self.closed:
                self._room.wait(_LOOK_SECONDS)
            if self.closed:
                return False
            self._waiting.append(one)
            self._bytes += one.body_bytes
            self._there.notify_all()
            self._wake_one_for_room()
            return True

    def _wake_one_for_room(self) -> None:
        # One at a time: to wake all, of whom one finds room, costs the others' threads a turn each.
        if self._bytes < self._most_bytes:
            self._room.notify()

    def end(self, error: BaseException | None = None) -> None:
        """Nothing more comes."""
        with self._lock:
            self._ended, self._error = True, error
            self._there.notify_all()
