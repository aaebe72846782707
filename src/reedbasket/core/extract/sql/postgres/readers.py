"""The connections by which a run reads: each goes from one statement to the next, since to sign in takes longer than a small table."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import psycopg
from psycopg import sql

# One that nobody wanted for longer may be gone: servers and what lies before them end those that are silent.
_KEPT_SECONDS = 20.0
_BEGIN = "begin isolation level repeatable read read only; set transaction snapshot {}"


class Readers:
    """Of one source. For several threads at once."""

    def __init__(self, conninfo: str, stop: threading.Event) -> None:
        self._conninfo = conninfo
        self._stop = stop
        self._lock = threading.Lock()
        self._closed = False
        self._idle: list[tuple[psycopg.Connection[Any], float]] = []

    @contextmanager
    def one(self, snapshot: str | None) -> Iterator[psycopg.Connection[Any]]:
        """A connection of the caller's own, which sees what a snapshot saw, if there is one; what it is asked ends when the run is
        stopped. Whoever has no error has read its answer to the end. Raises psycopg.Error."""
        connection = self._kept() or psycopg.connect(self._conninfo, autocommit=True)
        done = threading.Event()
        try:
            if snapshot is not None:
                connection.execute(sql.SQL(_BEGIN).format(snapshot))
            threading.Thread(target=cancel_when_stopped, args=(connection.cancel, self._stop, done), daemon=True).start()
            yield connection
            done.set()
            # No table is kept from who wants to change it between two statements.
            connection.rollback()
        except BaseException:
            done.set()
            connection.close()
            raise
        with self._lock:
            if self._closed:
                connection.close()
            else:
                self._idle.append((connection, time.monotonic()))

    def close(self) -> None:
        with self._lock:
            self._closed = True
            for connection, _ in self._idle:
                connection.close()

    def _kept(self) -> psycopg.Connection[Any] | None:
        with self._lock:
            while self._idle:
                connection, since = self._idle.pop()
                if time.monotonic() - since < _KEPT_SECONDS:
                    return connection
                connection.close()
        return None


def cancel_when_stopped(cancel: Callable[[], object], stop: threading.Event, done: threading.Event) -> None:
    while not done.wait(0.2):
        if stop.is_set():
            with suppress(Exception):
                cancel()
            return
