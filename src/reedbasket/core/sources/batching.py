"""Connecting the reader's thread with the loader's, and joining pages to batches that are worth shaping."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import replace
from typing import Any, Self

from ..records.bounded_queue import MOST_WAITING_BYTES, BoundedQueue, Waiting
from ..records.column_records import ColumnRecords, joined, same_form
from .chunk import Chunk

# Shaping works on whole columns; below about 2,000 records its fixed costs show, above it only memory grows.
RECORDS_PER_BATCH = 2_000
# Records in columns cost next to nothing each, and the fixed costs of a batch weigh more.
_COLUMN_RECORDS_PER_BATCH = 8_000
# A source that brings less than a batch in this time is shown, shaped and committed all the same.
SLOW_SECONDS = 1.0


class BackgroundReader(BoundedQueue[Waiting]):
    """Iterates over `chunks` in a separate thread, and passes them on."""

    def __init__(
        self, chunks: Iterator[Waiting], name: str, most_bytes: int = MOST_WAITING_BYTES, pool: Executor | None = None
    ) -> None:
        """Start to read.

        Args:
            pool: whose thread reads; a new one unless given.
        """
        super().__init__(most_bytes)
        self._pool = pool
        self._chunks = chunks
        self._name = name

    def __enter__(self) -> Self:
        if self._pool is not None:
            self._pool.submit(self._read)
        else:
            threading.Thread(target=self._read, name=f"read {self._name}", daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
        with self._lock:
            # Of a run that was cancelled nobody waits for one who reads and hears nothing: it ends by itself.
            stopped = self.stop is not None and self.stop.is_set()
            self._there.wait_for(lambda: self._ended, timeout=0.5 if stopped else 5.0)

    def _read(self) -> None:
        error: BaseException | None = None
        try:
            began = time.monotonic()
            for chunk in self._chunks if not self.closed else ():
                self.reading_seconds += time.monotonic() - began
                if not self.put(chunk):
                    break
                began = time.monotonic()
        except BaseException as failed:  # handed to the loader's thread, which raises it
            error = failed
        finally:
            # What it reads from may hold threads and connections of its own: they go now, not when somebody collects them.
            close = getattr(self._chunks, "close", None)
            if close is not None:
                close()
            self.end(error)


def gathered(chunks: Iterable[Chunk], most: int = _COLUMN_RECORDS_PER_BATCH) -> Iterator[Chunk]:
    """Pages joined to batches worth shaping, of about `most` records if they are in columns, or where a pass ends with them.

    Records of a slow source are passed on every second all the same. A mark covers exactly the records up to it: records of an unfinished
    pass are never joined to those of a finished one. A batch that was gathered for several warehouses is passed on as it is.
    """
    held: list[Chunk] = []
    count, began = 0, time.monotonic()
    for chunk in chunks:
        if chunk.once is not None:
            yield chunk
            continue
        if held and ((held[-1].mark is not None and chunk.mark is None) or not same_form(held[-1].records, chunk.records)):
            yield _joined(held)
            held, count, began = [], 0, time.monotonic()
        held.append(chunk)
        count += len(chunk.records)
        wanted = min(most, _COLUMN_RECORDS_PER_BATCH) if isinstance(chunk.records, ColumnRecords) else RECORDS_PER_BATCH
        ended = chunk.mark is not None and count >= most
        if count >= wanted or ended or time.monotonic() - began >= SLOW_SECONDS:
            yield _joined(held)
            held, count, began = [], 0, time.monotonic()
    if held:
        yield _joined(held)


def _joined(chunks: list[Chunk]) -> Chunk:
    if len(chunks) == 1:
        return chunks[0]
    return Chunk(
        joined([chunk.records for chunk in chunks]),
        sum(chunk.body_bytes for chunk in chunks),
        [misfit for chunk in chunks for misfit in chunk.misfits],
        next((chunk.total for chunk in chunks if chunk.total is not None), None),
        any(chunk.suspicious for chunk in chunks),
        chunks[-1].mark,
        tuple(origin for chunk in chunks for origin in chunk.origins),
        repeated=sum(chunk.repeated for chunk in chunks),
    )


def several(passes: Iterable[tuple[Any, Iterator[Chunk]]], concurrency: int, name: str) -> Iterator[Chunk]:
    """Read several passes at once, and pass them on in order: [(mark, chunks)]. The last chunk of each carries its mark."""
    begun: deque[tuple[Any, BackgroundReader[Chunk]]] = deque()
    waiting = iter(passes)
    share = MOST_WAITING_BYTES // concurrency
    pool = ThreadPoolExecutor(concurrency, thread_name_prefix=f"read {name}")
    try:
        while True:
            # Twice as many as are sent at once: a slow one at the front keeps nobody idle.
            while len(begun) < 2 * concurrency and (following := next(waiting, None)) is not None:
                begun.append((following[0], BackgroundReader(following[1], name, share, pool).__enter__()))
            if not begun:
                return
            mark, feeder = begun[0]
            held: Chunk | None = None
            for chunk in feeder:
                if held is not None:
                    yield held
                held = chunk
            begun.popleft()
            yield replace(held or Chunk([], 0, []), mark=mark)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
        for _, feeder in begun:
            feeder.close()
