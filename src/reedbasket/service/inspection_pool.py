"""Processes that look for people: at sources and warehouses, with the secrets that takes, so that the service itself opens none.

One is warm from the service's start on, so that the first look does not wait for imports; more are begun as they are needed, and end when
nobody has looked for a while. One that looks for long keeps nobody else; where one is ended, those that look beside it are cut too, and may
be asked again.
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


class LookCut(ReedError):
    """A look that was ended in its midst."""

    code = "service.look_cut"
    retryable = True


class InspectionPool:
    """`_lock` guards all of it. processes: how many things are looked at at once, at most."""

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
        """What the look finds. look: a function of a module, given the store and plain values; what it raises is raised here.

        Raises LookCut where its process was ended, or took longer than a quarter of an hour."""
        return self.ask_within(_LONGEST_SECONDS, look, *given, **named)

    def ask_within(
        self, seconds: float, look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs
    ) -> _FOUND:
        """The same; what takes longer is ended, and with it what others look at meanwhile: they are told to try again."""
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
                    raise LookCut("looking", found=f"it took more than {seconds:g} s", fix="try again, or look at less")
                found: _FOUND = asked.result()
                return found
            except BrokenProcessPool:
                self._let_go(pool)
                raise LookCut("looking", found="its process was ended before it was done", fix="try again") from None
            finally:
                with self._lock:
                    self._asked -= 1
                    self._last = time.monotonic()

    def _let_go(self, pool: ProcessPoolExecutor) -> None:
        with self._lock:
            self._pool = None if self._pool is pool else self._pool

    def get_ready(self) -> None:
        """Have a process that has imported what inspections need."""
        with self._lock, suppress(LookCut):
            self._warm()

    def stop(self) -> None:
        """Whatever is being looked at is given up."""
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
            raise LookCut("looking", found="the service is being stopped", fix="try again once it is there")
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
                    with suppress(LookCut):
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
