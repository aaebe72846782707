"""Joins the reader's thread and the loader's: a queue bounded in bytes, so that memory stays flat."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Iterable, Iterator
from typing import Any

from ..extract.chunk import Chunk

# Shaping works on whole columns; below about 2,000 records its fixed costs show, above it only memory grows.
RECORDS_PER_BATCH = 2_000
# Bodies waiting to be loaded. As parsed objects they take five to eight times as much.
MOST_WAITING_BYTES = 6 * 1024 * 1024
# How soon a full or empty queue notices that the run was stopped.
_LOOK_SECONDS = 0.5


class _Closed(Exception):
    """The loader went away; the reader's thread ends without a word."""


class Feeder:
    """Runs `chunks` in a thread of its own and hands them on. `_changed` guards everything below it."""

    def __init__(self, chunks: Iterator[Chunk], name: str) -> None:
        self._chunks = chunks
        self._changed = threading.Condition()
        self._waiting: deque[Chunk] = deque()
        self._bytes = 0
        self._ended = False
        self._closed = False
        self._error: BaseException | None = None
        # Seconds the reader spent until a chunk was there, and not waiting for room.
        self.reading_seconds = 0.0
        self._thread = threading.Thread(target=self._read, name=f"read {name}", daemon=True)

    def __enter__(self) -> Feeder:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        with self._changed:
            self._closed = True
            self._waiting.clear()
            self._changed.notify_all()
        self._thread.join(timeout=5.0)

    # Loader's thread

    def __iter__(self) -> Iterator[Chunk]:
        """Chunks in order; then the reader's error, if it ended with one."""
        while True:
            with self._changed:
                while not self._waiting and not self._ended:
                    self._changed.wait(_LOOK_SECONDS)
                if not self._waiting:
                    if self._error is not None:
                        raise self._error
                    return
                chunk = self._waiting.popleft()
                self._bytes -= chunk.body_bytes
                self._changed.notify_all()
            yield chunk

    # Reader's thread

    def _read(self) -> None:
        try:
            began = time.monotonic()
            for chunk in self._chunks:
                self.reading_seconds += time.monotonic() - began
                self._put(chunk)
                began = time.monotonic()
        except _Closed:
            pass
        except BaseException as error:  # handed to the loader's thread, which raises it
            self._error = error
        finally:
            with self._changed:
                self._ended = True
                self._changed.notify_all()

    def _put(self, chunk: Chunk) -> None:
        with self._changed:
            while self._bytes >= MOST_WAITING_BYTES and not self._closed:
                self._changed.wait(_LOOK_SECONDS)
            if self._closed:
                raise _Closed
            self._waiting.append(chunk)
            self._bytes += chunk.body_bytes
            self._changed.notify_all()


def gathered(chunks: Iterable[Chunk]) -> Iterator[Chunk]:
    """Pages joined to batches worth shaping. Nothing waits: what has been read when the source pauses is passed on."""
    records: list[dict[str, Any]] = []
    misfits: list[Any] = []
    size, suspicious, total = 0, False, None
    for chunk in chunks:
        records += chunk.records
        misfits += chunk.misfits
        size += chunk.body_bytes
        suspicious = suspicious or chunk.suspicious
        total = chunk.total if total is None else total
        if len(records) >= RECORDS_PER_BATCH:
            yield Chunk(records, size, misfits, total, suspicious)
            records, misfits, size, suspicious = [], [], 0, False
    if records or misfits or size:
        yield Chunk(records, size, misfits, total, suspicious)
