"""One worker process as the service sees it: its pipes, and the thread that hears it."""

from __future__ import annotations

import logging
import os
import signal
import sqlite3
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from ..core.errors import ReedError
from ..store.pace import process_lives
from . import forks
from .reach import Reach
from .worker import WORKER_NAME, run_worker

log = logging.getLogger("reedbasket.workers")
_STOP_SECONDS = 5.0


class WorkerProcess:
    """One worker process, forked from a process that has imported everything; that may take a moment, so a thread does it. All of it is
    guarded by the pool's lock.

    Args:
        folder: the service's data folder.
        reach: what definitions may reach.
        receive: is called with everything it says.
        lost: is called when its output has ended.

    Attributes:
        run: what it works on.
        heard_at: when it last said something, of the monotonic clock: wall clocks jump.
        pid: None until the process exists.
    """

    def __init__(
        self,
        folder: Path,
        reach: Reach,
        receive: Callable[[WorkerProcess, dict[str, int]], None],
        lost: Callable[[WorkerProcess], None],
    ) -> None:
        self.run: int | None = None
        self.ready = self.was_ready = False
        self.heard_at = time.monotonic()
        self._receive, self._lost = receive, lost
        pipe = forks.context().Pipe
        # One for each direction: closing a pipe that another thread reads from ends nothing.
        (self._theirs, self._orders), (self._words, self._said) = pipe(duplex=False), pipe(duplex=False)
        self._process = forks.context().Process(target=run_worker, args=(self._theirs, self._said, folder, reach), daemon=True)
        self._started = threading.Event()
        threading.Thread(target=self._begin_and_hear, name="worker", daemon=True).start()

    @property
    def pid(self) -> int | None:
        """Its process, once that exists."""
        return self._process.pid

    def send(self, message: dict[str, int]) -> None:
        """Order something of it."""
        with suppress(OSError):  # it is dead, and `lost` will say so
            self._orders.send(message)

    def kill(self) -> None:
        """End it at once; its output ends with it."""
        if self._started.is_set():
            self._process.kill()

    def close(self) -> None:
        """End it, by the end of its orders."""
        self._orders.close()
        if self._started.wait(_STOP_SECONDS):
            self._process.join(_STOP_SECONDS)
            self._process.kill()
            self._process.join()

    def _begin_and_hear(self) -> None:
        """Whatever goes wrong with one message, the next is read too: the scheduler calls `maintain` and `dispatch` again."""
        try:
            self._process.start()
            self._started.set()
        except (OSError, EOFError) as error:  # the process to fork from ended meanwhile; `maintain` asks for a new one
            log.error("a worker could not be started: %s", error)
        self._theirs.close()
        self._said.close()
        with suppress(EOFError, OSError):
            while True:
                self._guarded(self._receive, self, self._words.recv())
        self._words.close()
        self._guarded(self._lost, self)

    def _guarded(self, doing: Callable[..., None], *what: Any) -> None:
        try:
            doing(*what)
        except Exception as error:
            known = isinstance(error, sqlite3.Error | OSError | ReedError)
            log.error("a message of worker %s could not be processed: %s", self.pid, error, exc_info=None if known else error)


def end_leftover(pid: int) -> None:
    """A worker of a killed service ends by itself when its input does; make sure before its run is recovered."""
    for _ in range(20):
        if not _is_worker(pid):
            return
        time.sleep(0.05)
    if _is_worker(pid):
        os.kill(pid, signal.SIGKILL)


def _is_worker(pid: int) -> bool:
    if not process_lives(pid):
        return False
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip() == WORKER_NAME
    except OSError:
        return False
