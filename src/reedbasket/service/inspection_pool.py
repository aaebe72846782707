"""Processes that inspect sources and warehouses for people, with the secrets that this needs, so that the service itself reveals none.

One is ready from the service's start on, so that the first inspection does not wait for imports. More are started as they are needed,
and end after a while without work. A long inspection holds up nobody else. If one is killed, others that run at the same time are cut
off too, and can be repeated.
"""

from __future__ import annotations

import multiprocessing
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, TypeVar

from ..core import outgoing
from ..core.errors import ReedError
from ..store import Store
from . import forks
from .reach import Reach

_IDLE_SECONDS = 300.0
_LONGEST_SECONDS = 900.0
_GIVEN = ParamSpec("_GIVEN")
_FOUND = TypeVar("_FOUND")


class InspectionEnded(ReedError):
    """An inspection that was killed before it was done."""

    code = "service.inspection_ended"
    retryable = True


class InspectionPool:
    """`_lock` guards all of it.

    Args:
        processes: how many inspections run at once, at most.
    """

    def __init__(self, store: Store, processes: int) -> None:
        self._store = store
        self.reach = Reach()
        self._processes = processes
        self._lock = threading.Lock()
        self._places = threading.BoundedSemaphore(processes)
        self._pool: ProcessPoolExecutor | None = None
        self._asked = 0
        self._last = 0.0
        self._closed = False

    def ask(self, look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs) -> _FOUND:
        """The result of an inspection. Whatever it raises is raised here.

        Args:
            look: a function of a module, which gets the store and plain values.

        Raises:
            InspectionEnded: its process was killed, or took longer than a quarter of an hour.
        """
        return self.run_within(_LONGEST_SECONDS, look, *given, **named)

    def run_within(
        self, seconds: float, look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs
    ) -> _FOUND:
        """The same with a limit of time. If it is exceeded, the processes are killed, and inspections that run at the same time have to
        be repeated.
        """
        with self._places:  # what waits for a process is not looking yet
            with self._lock:
                pool = self._begun()
                self._asked += 1
            try:
                asked = pool.submit(_look, look, given, named)
                if wait([asked], seconds).not_done:
                    self._let_go(pool)
                    for process in list((pool._processes or {}).values()):
                        process.kill()
                    raise InspectionEnded("looking", found=f"it took more than {seconds:g} s", fix="try again, or inspect less")
                found: _FOUND = asked.result()
                return found
            except BrokenProcessPool:
                self._let_go(pool)
                raise InspectionEnded("looking", found="its process was ended before it was done", fix="try again") from None
            finally:
                with self._lock:
                    self._asked -= 1
                    self._last = time.monotonic()

    def _let_go(self, pool: ProcessPoolExecutor) -> None:
        with self._lock:
            self._pool = None if self._pool is pool else self._pool

    def get_ready(self) -> None:
        """Have a process that has imported what inspections need."""
        with self._lock, suppress(InspectionEnded):
            self._warm()

    def stop(self) -> None:
        """Kill all inspections."""
        with self._lock:
            self._closed = True
            pool, self._pool = self._pool, None
        if pool is not None:
            pool.shutdown(wait=False, cancel_futures=True)
            for process in multiprocessing.active_children():
                process.kill()

    def _warm(self) -> None:
        """With the lock held."""
        if self._pool is None:
            self._begun().submit(_look, _nothing, (), {})

    def _begun(self) -> ProcessPoolExecutor:
        """With the lock held."""
        if self._closed:
            raise InspectionEnded("looking", found="the service is being stopped", fix="try again once it is up")
        if self._pool is None:
            self._pool = ProcessPoolExecutor(
                self._processes,
                forks.context(),
                initializer=_begin,
                initargs=(self._store.folder, self.reach),
            )
            threading.Thread(target=self._end_when_idle, args=(self._pool,), name="looks", daemon=True).start()
        return self._pool

    def _end_when_idle(self, pool: ProcessPoolExecutor) -> None:
        while True:
            time.sleep(_IDLE_SECONDS / 10)
            with self._lock:
                if self._pool is not pool:
                    break
                if self._last and not self._asked and time.monotonic() - self._last > _IDLE_SECONDS:
                    # A fresh one takes their place, without what they had come to hold.
                    self._pool, self._last = None, 0.0
                    with suppress(InspectionEnded):
                        self._warm()
                    break
        pool.shutdown(wait=False)


# In the process

_store: Store


def _begin(folder: Path, reach: Reach) -> None:
    global _store
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a Ctrl-C in the terminal is the service's to handle
    _store = Store(folder, reach.folders)
    outgoing.install(reach.outgoing)
    forks.end_with_service()


def _nothing(_: Store) -> None:
    """What inspections need is imported where its process was forked from."""


def _look(look: Callable[..., Any], given: tuple[Any, ...], named: dict[str, Any]) -> Any:
    return look(_store, *given, **named)
