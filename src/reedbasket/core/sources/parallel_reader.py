"""Passes of one load read at once, and handed on as they come."""

from __future__ import annotations

import os
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from math import inf
from typing import Any, Generic, TypeVar

from typing_extensions import override

from ..processors import idle_seconds
from ..records.bounded_queue import BoundedQueue
from .chunk import Chunk

Part = TypeVar("Part")
# Of what is read at once, one begins. The others do once this process has worked for less than that share of the processors' time in
# so many seconds, another such share had nothing to do, and the queue has room: where its work, other work here, or the warehouse is what
# all wait for, more of them only take processors.
_SPARE_SHARE, _SPARE_SECONDS = 0.35, 0.25


class _Enough(Exception):
    """Others bring what is left of a pass."""


class UnorderedParallelReader(BoundedQueue[Chunk], Generic[Part]):
    """No pass waits until those before it are through. The mark comes once all have ended; nobody can go on from any before it."""

    def __init__(
        self,
        passes: Callable[[int], Iterable[Part]],
        read: Callable[[Part, Callable[[], Part | None]], Iterator[Chunk]],
        at_once: int,
        name: str,
        mark: Any,
        whole: Part | None = None,
        whole_seconds: float = inf,
    ) -> None:
        """whole: one pass that brings all, which is cheaper than many as long as one reads; once others begin it ends where it is, and
        after so many seconds.
        passes: of what is behind so many of its records; asked for once. read: the chunks of a pass; told, once it is known, which one is
        read behind it by the same thread, and ended by that. at_once: at most."""
        super().__init__()
        self._passes = passes
        self._chunks_of = read
        self._at_once = at_once
        self._pool = ThreadPoolExecutor(at_once, thread_name_prefix=f"read {name}")
        self._mark = mark
        self._whole = whole
        self._whole_seconds = whole_seconds
        self._stopped = threading.Event()
        # Under the lock: passes that nobody has taken, how many have not ended, how many read, whether they are enough; how many records
        # of the whole are handed on, and whether all else is in passes.
        self._untaken: deque[Part] = deque([] if whole is None else [whole])
        self._left, self._hands = len(self._untaken), 0
        self._enough = False
        self._records = 0
        self._is_cut = False

    def __iter__(self) -> Iterator[Chunk]:
        self._pool.submit(self._begin)
        try:
            yield from super().__iter__()
        finally:
            self.close()

    @override
    def close(self) -> None:
        super().close()
        self._stopped.set()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _begin(self) -> None:
        if self._whole is None:
            self._cut()
        self._pool.submit(self._watch)
        self._read()

    def _watch(self) -> None:
        end_of_whole = time.monotonic() + self._whole_seconds
        while not self._stopped.is_set():
            began, worked, idle = time.monotonic(), time.process_time(), idle_seconds()
            self._stopped.wait(_SPARE_SECONDS)
            share = _SPARE_SHARE * (os.cpu_count() or 1) * (time.monotonic() - began)
            busy = time.process_time() - worked >= share or (idle is not None and (idle_seconds() or idle) - idle < share)
            self._enough = busy or self._bytes >= self._most_bytes
            if not self._enough:
                self._cut()
                for _ in range(2, self._at_once):
                    self._pool.submit(self._read)
                self._read()
                return
            if time.monotonic() >= end_of_whole:
                self._cut()

    def _cut(self) -> None:
        """What is not handed on becomes passes."""
        with self._lock:
            if self._is_cut or (self._whole is not None and not self._left):
                return
            self._is_cut = True
            self._left += 1  # this; nothing has ended before they are known
        try:
            found = list(self._passes(self._records))
        except BaseException as failed:  # handed to who asks for chunks
            self.end(failed)
            return
        with self._lock:
            self._left += len(found)
            self._untaken.extend(found)
        if self._whole is not None:
            self._pool.submit(self._read)  # in place of its reader
        self._one_ended()

    def _read(self) -> None:
        with self._lock:
            self._hands += 1
        one = self._next()
        while one is not None:
            ahead: list[Part] = []
            self._go_through(one, self._chunks_of(one, partial(self._ahead, one, ahead)))
            if one is self._whole:
                break  # if it was cut, somebody is to read what is left once that is known
            one = ahead[0] if ahead and not self.closed else self._next()
        with self._lock:
            self._hands -= 1

    def _next(self) -> Part | None:
        with self._lock:
            return self._untaken.popleft() if self._untaken and not self.closed else None

    def _ahead(self, one: Part, ahead: list[Part]) -> Part | None:
        """One more, as long as all who read, and who may yet begin, find one all the same. Raises _Enough."""
        with self._lock:
            if one is self._whole and self._is_cut:
                raise _Enough
            others = self._hands - 1 + (0 if self._enough else self._at_once - self._hands)
            if not ahead and len(self._untaken) > others and not self.closed:
                ahead.append(self._untaken.popleft())
                return ahead[0]
        return None

    def _go_through(self, one: Part, chunks: Iterator[Chunk]) -> None:
        try:
            began = time.monotonic()
            for chunk in chunks:
                self.reading_seconds += (time.monotonic() - began) / self._hands
                if not self._wanted(one, chunk) or not self.put(chunk):
                    break
                began = time.monotonic()
            self._one_ended()
        except _Enough:
            self._one_ended()
        except BaseException as failed:  # handed to who asks for chunks
            self.end(failed)
        finally:
            close = getattr(chunks, "close", None)
            if close is not None:
                close()

    def _wanted(self, one: Part, chunk: Chunk) -> bool:
        """Not what came of the whole after it was cut: a pass brings it."""
        if one is not self._whole:
            return True
        with self._lock:
            if not self._is_cut:
                self._records += len(chunk.records)
            return not self._is_cut

    def _one_ended(self) -> None:
        with self._lock:
            self._left -= 1
            ended = not self._left
        if ended:
            self.put(Chunk([], 0, [], mark=self._mark))
            self.end()
