"""Passes of one load read at once, and handed on as they come."""

from __future__ import annotations

import os
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, Generic, TypeVar

from .chunk import Chunk
from .handover import Handover

Pass = TypeVar("Pass")
# Of what is read at once, one begins. The others do once this process has worked for less than that share of the processors' time in
# so many seconds, and has waited for the rest: where its work is what all wait for, more of them only take its processors.
_SPARE_SHARE, _SPARE_SECONDS = 0.35, 0.25


class Mingled(Handover[Chunk], Generic[Pass]):
    """No pass waits until those before it are through. The last one's mark comes once all have ended; nobody can go on from any before
    it."""

    def __init__(
        self,
        passes: Iterable[tuple[Any, Pass]],
        read: Callable[[Pass, Callable[[], Pass | None]], Iterator[Chunk]],
        at_once: int,
        name: str,
    ) -> None:
        """passes: [(mark, pass)], at least one. read: the chunks of a pass; told, once it is known, which one is read behind it by the
        same thread. at_once: at most."""
        super().__init__()
        self._passes = passes
        self._chunks_of = read
        self._at_once = at_once
        self._pool = ThreadPoolExecutor(at_once, thread_name_prefix=f"read {name}")
        self._stopped = threading.Event()
        # Under the lock: passes that nobody has taken, how many have not ended, how many read, whether they are enough.
        self._untaken: deque[Pass] = deque()
        self._left = self._hands = 0
        self._enough = False
        self._mark: Any = None

    def __iter__(self) -> Iterator[Chunk]:
        self._pool.submit(self._begin)
        try:
            yield from super().__iter__()
        finally:
            self.close()

    def close(self) -> None:
        super().close()
        self._stopped.set()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _begin(self) -> None:
        try:
            for mark, one in self._passes:
                self._untaken.append(one)
                self._mark = mark
        except BaseException as failed:  # handed to who asks for chunks
            self.end(failed)
            return
        self._left = len(self._untaken)
        for _ in range(1, min(self._at_once, self._left)):
            self._pool.submit(self._help)
        self._read()

    def _help(self) -> None:
        spare = _SPARE_SHARE * (os.cpu_count() or 1)
        while not self._stopped.is_set():
            began, worked = time.monotonic(), time.process_time()
            self._stopped.wait(_SPARE_SECONDS)
            self._enough = time.process_time() - worked >= spare * (time.monotonic() - began)
            if not self._enough:
                self._read()
                return

    def _read(self) -> None:
        with self._lock:
            self._hands += 1
        one = self._next()
        while one is not None:
            ahead: list[Pass] = []
            self._go_through(self._chunks_of(one, partial(self._ahead, ahead)))
            one = ahead[0] if ahead and not self.closed else self._next()

    def _next(self) -> Pass | None:
        with self._lock:
            return self._untaken.popleft() if self._untaken and not self.closed else None

    def _ahead(self, ahead: list[Pass]) -> Pass | None:
        """One more, as long as all who read, and who may yet begin, find one all the same."""
        with self._lock:
            others = self._hands - 1 + (0 if self._enough else self._at_once - self._hands)
            if not ahead and len(self._untaken) > others and not self.closed:
                ahead.append(self._untaken.popleft())
                return ahead[0]
        return None

    def _go_through(self, chunks: Iterator[Chunk]) -> None:
        try:
            began = time.monotonic()
            for chunk in chunks:
                self.reading_seconds += (time.monotonic() - began) / self._hands
                if not self.put(chunk):
                    break
                began = time.monotonic()
            with self._lock:
                self._left -= 1
                ended = not self._left
            if ended:
                self.put(Chunk([], 0, [], mark=self._mark))
                self.end()
        except BaseException as failed:  # handed to who asks for chunks
            self.end(failed)
        finally:
            close = getattr(chunks, "close", None)
            if close is not None:
                close()
