"""Reading several passes of one load at once, and passing records on as they arrive."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from typing import Any, cast

from typing_extensions import override

from ..records.bounded_queue import BoundedQueue
from .chunk import Chunk


class UnorderedParallelReader(BoundedQueue[Chunk]):
    """No pass waits for those before it. The mark comes once all have ended, because nobody can continue from an earlier one."""

    def __init__(self, passes: Iterable[Iterator[Chunk]], concurrency: int, name: str, mark: Any) -> None:
        """Start to read.

        Args:
            passes: the chunks of each; the next one is requested once a thread is free to read it.
            concurrency: how many are read at once, at most.
            name: of the reading threads.
            mark: carried by the last chunk.
        """
        super().__init__()
        self._passes = iter(passes)
        self._at_once = concurrency
        self._pool = ThreadPoolExecutor(concurrency, thread_name_prefix=f"read {name}")
        self._mark = mark
        # Under the lock: how many threads read.
        self._reading = concurrency

    def __iter__(self) -> Iterator[Chunk]:
        for _ in range(self._at_once):
            self._pool.submit(self._read)
        try:
            yield from super().__iter__()
        finally:
            self.close()

    @override
    def close(self) -> None:
        super().close()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _read(self) -> None:
        try:
            while (chunks := self._next()) is not None:
                # Whatever it reads from is let go now, not when somebody collects it.
                with closing(cast("Any", chunks)):
                    began = time.monotonic()
                    for chunk in chunks:
                        self.reading_seconds += (time.monotonic() - began) / self._at_once
                        if not self.put(chunk):
                            return
                        began = time.monotonic()
        except BaseException as failed:  # handed to who asks for chunks
            self.end(failed)
            return
        with self._lock:
            self._reading -= 1
            ended = not self._reading
        if ended:
            self.put(Chunk([], 0, [], mark=self._mark))
            self.end()

    def _next(self) -> Iterator[Chunk] | None:
        with self._lock:
            return None if self.closed else next(self._passes, None)
