"""The pool of worker processes, and who runs what."""

from __future__ import annotations

import json
import logging
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from ..core.errors import Conflict, ReedError
from ..core.runs import RunOutcome
from ..core.spec import Basket
from ..store import Store, definitions, journal, runs
from ..store.database import now_text, text_of
from ..store.pace import process_lives
from .reach import Reach

log = logging.getLogger("reedbasket.workers")
# A feed whose runs are cut this many times in a row is not taken up again by itself: something kills it on purpose.
MOST_TAKE_UPS = 3
_STOP_SECONDS = 5.0
# A worker tells that it lives every few seconds (worker.LIVES_SECONDS); a machine that swaps may hold it up for a while.
SILENT_SECONDS = 60.0
LONGEST_PAUSE_SECONDS = 300.0


class Signal:
    """Wakes whoever waits for news of runs. `_changed` guards the count."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._count = 0

    def tell(self) -> None:
        """Something changed."""
        with self._changed:
            self._count += 1
            self._changed.notify_all()

    def count(self) -> int:
        """How often something has."""
        with self._changed:
            return self._count

    def wait(self, seen: int, seconds: float) -> int:
        """Until there is news after `seen`, or the time is over: the count now."""
        with self._changed:
            self._changed.wait_for(lambda: self._count != seen, timeout=max(0.0, seconds))
            return self._count


class Workers:
    """`_lock` guards `_pool`, what runs and the dispatching; each worker has a thread that hears what it says.

    ended: told of every run that came to an end here, by the thread that heard of it.
    """

    def __init__(self, store: Store, count: int, ended: Callable[[int], None] = lambda _: None) -> None:
        self._store = store
        self._count = count
        self._lock = threading.RLock()
        self._pool: list[_WorkerProcess] = []
        self._closing = False
        self._draining = False
        self.ended = ended
        self.signal = Signal()
        self.reach = Reach()

    def start(self) -> list[int]:
        """Close what an earlier service left running, start the workers, and take up what was interrupted: those runs."""
        for run, _, pid in runs.running(self._store):
            if pid is not None:
                _end_leftover(pid)
            self._interrupted(run, "the service ended while it ran")
        with self._lock:
            for _ in range(self._count):
                self._pool.append(_WorkerProcess(self))
        found = runs.left_interrupted(self._store, definitions.names(self._store, "feed"))
        for run, feed in found:
            self._take_up(run, feed)
        self.dispatch()
        return [run for run, _ in found]

    def drain(self, seconds: float) -> None:
        """Nothing is begun any more; runs that go on may end within so long. After half of it they are asked to commit what they have and
        go on at the next start."""
        with self._lock:
            self._draining = True
        began, asked = time.monotonic(), False
        while time.monotonic() - began < seconds:
            with self._lock:
                busy = [worker for worker in self._pool if worker.run is not None]
                if not busy:
                    return
                if not asked and time.monotonic() - began > seconds / 2:
                    asked = True
                    for worker in busy:
                        worker.send({"wind_up": 1})
            time.sleep(0.05)

    def stop(self) -> None:
        """End all workers. What they were running becomes interrupted, and is taken up at the next start."""
        with self._lock:
            self._closing = True
            pool, self._pool = self._pool, []
        for worker in pool:
            worker.close()
        with suppress(sqlite3.Error):  # the next start finds them as well
            for run, _, _ in runs.running(self._store):
                self._interrupted(run, "the service was stopped")

    def ask(self, wanted: runs.RunRequest) -> int:
        """Queue a run and hand it out if a worker is free. One that waits for its next attempt begins at once instead, where nothing
        else is wanted of it. Raises Conflict."""
        plain = not (wanted.allow_loss or wanted.replay or wanted.sets)
        waits = runs.hurry(self._store, wanted.feed) if plain else None
        run = waits if waits is not None else runs.ask(self._store, wanted)
        self.dispatch()
        self.signal.tell()
        return run

    def cancel(self, run: int) -> None:
        """Raises NotFound, or Conflict where it has ended."""
        outcome = runs.outcome(self._store, run)
        if outcome == RunOutcome.QUEUED and runs.end(self._store, run, RunOutcome.CANCELLED, None):
            self.signal.tell()
            return
        with self._lock:
            for worker in self._pool:
                if worker.run == run:
                    worker.send({"cancel": run})
                    return
        outcome = runs.outcome(self._store, run)
        raise Conflict(
            "cancelling the run",
            str(run),
            found=f"it is {outcome}",
            fix="nothing is left to cancel",
            code="run.not_active",
        )

    def dispatch(self) -> None:
        """Hand out what may begin: in the order in which it was asked for, as far as sources and warehouses take several at once."""
        with self._lock:
            free = [worker for worker in self._pool if worker.ready and worker.run is None]
            if self._closing or self._draining or not free:
                return
            waiting = runs.queued(self._store, now_text())
            if not waiting:
                return
            places = _Places(definitions.basket(self._store), [feed for _, feed, _ in runs.running(self._store)])
            for run, feed in waiting:
                if not free:
                    return
                if not places.free_for(feed):
                    continue
                worker = free[0]
                if runs.take(self._store, run, worker.pid):
                    places.taken_by(feed)
                    worker.run = run
                    worker.send({"run": run})
                    free.pop(0)
                    log.info("run begun", extra={"facts": {"run": run, "feed": feed, "worker": worker.pid}})

    def up(self) -> int:
        """How many workers take runs."""
        with self._lock:
            return sum(worker.ready for worker in self._pool)

    def busy(self) -> int:
        """How many workers are running something."""
        with self._lock:
            return sum(worker.run is not None for worker in self._pool)

    # What the scheduler sees to, about once a second

    def tend(self) -> None:
        """There are as many workers as there should be, each says that it lives, and no run counts as going on that none works on."""
        self._end_silent()
        with self._lock:
            while not self._closing and len(self._pool) < self._count:
                self._pool.append(_WorkerProcess(self))
        self._take_up_lost()

    def _end_silent(self) -> None:
        """A worker says several times a minute that it lives; one that does not any more is ended, and its run taken up."""
        with self._lock:
            silent = [worker for worker in self._pool if time.monotonic() - worker.heard_at > SILENT_SECONDS]
        for worker in silent:
            worker.kill()  # `lost` does the rest

    def _take_up_lost(self) -> None:
        """It could not be noted how they ended: the disk was full, or the store locked."""
        with self._lock:
            if self._closing:
                return
            worked_on = {worker.run for worker in self._pool}
            lost = [run for run, _, _ in runs.running(self._store) if run not in worked_on]
        for run in lost:
            self._was_cut(run)

    # Threads that hear workers

    def receive(self, worker: _WorkerProcess, message: dict[str, int]) -> None:
        """A worker said something."""
        done: int | None = None
        with self._lock:
            worker.heard_at = time.monotonic()
            if "lives" in message:
                return
            if "ready" in message:
                worker.ready = worker.was_ready = True
            elif "done" in message:
                done, worker.run = worker.run, None
                if message.get("retiring"):
                    worker.ready = False  # it has grown too large, and ends; nothing more is handed to it
        self.signal.tell()
        if done is not None:
            self.ended(done)
        if "told" not in message:
            self.dispatch()

    def lost(self, worker: _WorkerProcess) -> None:
        """A worker's output ended: it was killed, or retired. One that never got ready is replaced by `tend`, not at once."""
        with self._lock:
            if self._closing or worker not in self._pool:
                return
            run, worker.run = worker.run, None
            self._pool.remove(worker)
            if worker.was_ready:
                self._pool.append(_WorkerProcess(self))
        if run is not None:
            self._was_cut(run)
        self.signal.tell()

    def _was_cut(self, run: int) -> None:
        row = runs.get(self._store, run)
        if row["outcome"] == "running":
            self._interrupted(run, "its worker process was killed")
            self._take_up(run, row["feed"])
        self.ended(run)

    def _interrupted(self, run: int, why: str) -> None:
        journal.add_log(self._store, run, "error", "run.interrupted", f"{why}; what was committed stays")
        runs.end(self._store, run, RunOutcome.INTERRUPTED, None)

    def _take_up(self, run: int, feed: str) -> None:
        """Go on from the last committed cursor with a new run. One that is cut again and again waits longer and longer if its feed's
        schedule asked for it, and is left to people if they did."""
        cut, row = runs.interrupted_in_a_row(self._store, feed), runs.get(self._store, run)
        not_before = None
        if cut > MOST_TAKE_UPS and row["trigger"] == "manual":
            words = f"{cut} runs in a row were cut; run the feed again by hand"
            journal.add_log(self._store, run, "error", "run.not_taken_up", words)
            return
        if cut > MOST_TAKE_UPS:
            pause = timedelta(seconds=min(2.0 ** (cut - MOST_TAKE_UPS), LONGEST_PAUSE_SECONDS))
            not_before = text_of(datetime.now(UTC) + pause)
        try:
            with self._store.transaction() as connection:
                version = definitions.feed_version(self._store, feed)
                again = runs.ask_again(connection, run, version, not_before=not_before)
        except sqlite3.IntegrityError:
            return  # another run of the feed is there already
        words = f"run {again} goes on from the last committed cursor" + (f", at {not_before}" if not_before else "")
        journal.add_log(self._store, run, "info", "run.taken_up", words)
        self.dispatch()

    @property
    def folder(self) -> Path:
        """The service's data folder."""
        return self._store.folder


class _WorkerProcess:
    """One worker process. `run` is what it works on; heard_at: when it last said something. Times are of the monotonic
    clock: wall clocks jump. All are guarded by the pool's lock."""

    def __init__(self, owner: Workers) -> None:
        self.run: int | None = None
        self.ready = self.was_ready = False
        self.heard_at = time.monotonic()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "reedbasket.service.worker", str(owner.folder), owner.reach.as_text()],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,  # a Ctrl-C in the terminal is the service's to handle
        )
        self.pid = self._process.pid
        self._owner = owner
        threading.Thread(target=self._hear, name=f"worker {self.pid}", daemon=True).start()

    def send(self, message: dict[str, int]) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(message) + "\n")
            self._process.stdin.flush()
        except (BrokenPipeError, ValueError):
            pass  # it is dead, and `lost` will say so

    def kill(self) -> None:
        self._process.kill()

    def close(self) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.close()
            self._process.wait(_STOP_SECONDS)
        except (OSError, subprocess.TimeoutExpired):
            self._process.kill()
            self._process.wait()

    def _hear(self) -> None:
        """Whatever goes wrong with what is heard, the next thing is heard too: `tend` and `dispatch` are tried again by the scheduler."""
        assert self._process.stdout is not None
        for line in self._process.stdout:
            with suppress(ValueError):  # something printed into our line; what matters stands in the store
                self._guarded(self._owner.receive, self, json.loads(line))
        self._process.wait()
        self._guarded(self._owner.lost, self)

    def _guarded(self, doing: Callable[..., None], *what: Any) -> None:
        try:
            doing(*what)
        except Exception as error:
            known = isinstance(error, sqlite3.Error | OSError | ReedError)
            log.error("what worker %s said could not be followed: %s", self.pid, error, exc_info=None if known else error)


class _Places:
    """How many more runs each source and warehouse takes just now. `max_concurrent_runs` of theirs says how many at once."""

    def __init__(self, basket: Basket, running: Sequence[str]) -> None:
        self._basket = basket
        self._taken: Counter[tuple[str, str]] = Counter()
        for feed in running:
            self.taken_by(feed)

    def free_for(self, feed: str) -> bool:
        return all(most is None or self._taken[place] < most for place, most in self._of(feed))

    def taken_by(self, feed: str) -> None:
        self._taken.update(place for place, _ in self._of(feed))

    def _of(self, feed: str) -> list[tuple[tuple[str, str], int | None]]:
        definition = self._basket.feeds.get(feed)
        if definition is None:  # taken away since: its run says so
            return []
        source, warehouses = self._basket.sources[definition.source], self._basket.warehouses
        places = [(("warehouse", name), warehouses[name].max_concurrent_runs) for name in definition.warehouses]
        return [(("source", definition.source), source.max_concurrent_runs), *places]


def _end_leftover(pid: int) -> None:
    """A worker of a killed service ends by itself when its input does; make sure before its run is taken up."""
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
        return b"reedbasket.service.worker" in Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False
