"""The connections by which a run reads: each goes from one statement to the next, since to sign in takes longer than a small table."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

import psycopg
from psycopg import sql

from .stream import Reader

# One that nobody wanted for longer may be gone: servers and what lies before them end those that are silent.
_KEPT_SECONDS = 20.0
_BEGIN = "begin isolation level repeatable read read only; set transaction snapshot {}"
# No index, and no other process that scans a part: block by block is all that is left.
AS_IT_LIES = ("enable_indexscan=off", "enable_indexonlyscan=off", "enable_bitmapscan=off", "max_parallel_workers_per_gather=0")


class Readers:
    """Of one source. For several threads at once."""

    def __init__(self, conninfo: str, stop: threading.Event) -> None:
        self._conninfo = conninfo
        self._stop = stop
        self._lock = threading.Lock()
        self._closed = False
        self._idle: list[tuple[Reader, float]] = []

    @contextmanager
    def one(self, statement: str, snapshot: str | None, *settings: str) -> Iterator[Reader]:
        """A connection of the caller's own, which sees what a snapshot saw, if there is one: that which was asked for the statement
        already, or any. settings: for that statement, where there is a snapshot. What it is asked ends when the run is stopped. Whoever has
        no error has read its answer to the end. Raises psycopg.Error."""
        reader = self._kept(statement) or Reader(psycopg.connect(self._conninfo, autocommit=True))
        done = threading.Event()
        try:
            if snapshot is not None and not reader.asked:
                reader.connection.execute(
                    sql.SQL("; set local ").join([sql.SQL(_BEGIN).format(snapshot), *map(sql.SQL, settings)])
                )
            cancel = reader.connection.cancel
            threading.Thread(target=cancel_when_stopped, args=(cancel, self._stop, done), daemon=True).start()
            yield reader
            done.set()
            if not reader.asked and reader.left:  # the driver would not find all of it
                reader.connection.close()
                return
            if not reader.asked:
                # No table is kept from who wants to change it between two statements.
                reader.connection.rollback()
        except BaseException:
            done.set()
            reader.connection.close()
            raise
        with self._lock:
            if self._closed:
                reader.connection.close()
            else:
                self._idle.append((reader, time.monotonic()))

    def close(self) -> None:
        with self._lock:
            self._closed = True
            for reader, _ in self._idle:
                reader.connection.close()

    def _kept(self, statement: str) -> Reader | None:
        with self._lock:
            old = [one for one in self._idle if time.monotonic() - one[1] > _KEPT_SECONDS]
            for one in old:
                self._idle.remove(one)
                one[0].connection.close()
            for wanted in ([statement], []):
                for one in self._idle:
                    if one[0].asked == wanted:
                        self._idle.remove(one)
                        return one[0]
        return None


def cancel_when_stopped(cancel: Callable[[], object], stop: threading.Event, done: threading.Event) -> None:
    while not done.wait(0.2):
        if stop.is_set():
            with suppress(Exception):
                cancel()
            return
