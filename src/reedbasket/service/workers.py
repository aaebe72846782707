"""The pool of worker processes, and which of them runs what."""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta

from ..core.errors import Conflict
from ..core.runs import RunOutcome
from ..core.spec import Basket
from ..store import Store, definitions, journal, runs
from ..store.database import now_text, text_of
from .reach import Reach
from .worker_process import WorkerProcess, end_leftover

log = logging.getLogger("reedbasket.workers")
# A feed whose runs are cut this many times in a row is not taken up again by itself: something kills it on purpose.
MOST_TAKE_UPS = 3
# A worker tells that it lives every few seconds (worker.HEARTBEAT_SECONDS); a machine that swaps may hold it up for a while.
SILENT_SECONDS = 60.0
LONGEST_PAUSE_SECONDS = 300.0


class Signal:
    """Wakes whoever waits for news about runs. `_changed` guards the count."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._count = 0

    def tell(self) -> None:
        """Something changed."""
        with self._changed:
            self._count += 1
            self._changed.notify_all()

    def count(self) -> int:
        """How often something has changed."""
        with self._changed:
            return self._count

    def wait(self, seen: int, seconds: float) -> int:
        """Wait for news after `seen`, or until the time is over. Returns the present count."""
        with self._changed:
            self._changed.wait_for(lambda: self._count != seen, timeout=max(0.0, seconds))
            return self._count


class Workers:
    """`_lock` guards `_pool`, what is running and the dispatching; each worker has a thread that reads what it says.

    Args:
        ended: is called for every run that ends, by the thread that learned of it.
    """

    def __init__(self, store: Store, count: int, ended: Callable[[int], None] = lambda _: None) -> None:
        self._store = store
        self._count = count
        self._lock = threading.RLock()
        self._pool: list[WorkerProcess] = []
        self._closing = False
        self._draining = False
        self.ended = ended
        self.signal = Signal()
        self.reach = Reach()

    def start(self) -> list[int]:
        """End what an earlier service left running, start the workers, and recover what was interrupted. Returns those runs."""
        for run, _, pid in runs.running(self._store):
            if pid is not None:
                end_leftover(pid)
            self._interrupted(run, "the service ended while it ran")
        with self._lock:
            for _ in range(self._count):
                self._pool.append(self._new_worker())
        found = runs.left_interrupted(self._store, definitions.names(self._store, "feed"))
        for run, feed in found:
            self._recover(run, feed)
        self.dispatch()
        return [run for run, _ in found]

    def drain(self, seconds: float) -> None:
        """Start nothing more, and give runs this much time to end. After half of it they are asked to commit what they have and to
        continue at the next start.
        """
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
        """End all workers. Their runs become interrupted, and are recovered at the next start."""
        with self._lock:
            self._closing = True
            pool, self._pool = self._pool, []
        for worker in pool:
            worker.close()
        with suppress(sqlite3.Error):  # the next start finds them as well
            for run, _, _ in runs.running(self._store):
                self._interrupted(run, "the service was stopped")

    def ask(self, wanted: runs.RunRequest) -> int:
        """Queue a run, and start it if a worker is free. If a run of the feed waits for its next attempt, and nothing special is
        requested, that one starts at once.

        Raises:
            Conflict: another run of the feed is queued or running.
        """
        plain = not (wanted.allow_loss or wanted.replay or wanted.sets)
        waits = runs.start_waiting(self._store, wanted.feed) if plain else None
        run = waits if waits is not None else runs.ask(self._store, wanted)
        self.dispatch()
        self.signal.tell()
        return run

    def cancel(self, run: int) -> None:
        """Cancel a run.

        Raises:
            NotFound: there is no such run.
            Conflict: it has ended.
        """
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
            fix="there is nothing to cancel",
            code="run.not_active",
        )

    def dispatch(self) -> None:
        """Start runs in the order in which they were queued, as far as sources and warehouses allow several at once."""
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
                assert worker.pid is not None  # it was heard
                if runs.take(self._store, run, worker.pid):
                    places.taken_by(feed)
                    worker.run = run
                    worker.send({"run": run})
                    free.pop(0)
                    log.info("run begun", extra={"facts": {"run": run, "feed": feed, "worker": worker.pid}})

    def up(self) -> int:
        """How many workers are ready for runs."""
        with self._lock:
            return sum(worker.ready for worker in self._pool)

    def busy(self) -> int:
        """How many workers are running something."""
        with self._lock:
            return sum(worker.run is not None for worker in self._pool)

    # What the scheduler sees to, about once a second

    def maintain(self) -> None:
        """Keep the number of workers, kill those that hang, and recover runs that no worker is working on."""
        self._end_silent()
        with self._lock:
            while not self._closing and len(self._pool) < self._count:
                self._pool.append(self._new_worker())
        self._recover_lost()

    def _end_silent(self) -> None:
        """Kill workers that have sent no heartbeat for too long; their runs are recovered."""
        with self._lock:
            silent = [worker for worker in self._pool if time.monotonic() - worker.heard_at > SILENT_SECONDS]
        for worker in silent:
            worker.kill()  # `lost` does the rest

    def _recover_lost(self) -> None:
        """It could not be noted how they ended: the disk was full, or the store locked."""
        with self._lock:
            if self._closing:
                return
            worked_on = {worker.run for worker in self._pool}
            lost = [run for run, _, _ in runs.running(self._store) if run not in worked_on]
        for run in lost:
            self._was_cut(run)

    # Threads that hear workers

    def receive(self, worker: WorkerProcess, message: dict[str, int]) -> None:
        """A worker said something."""
        done: int | None = None
        with self._lock:
            worker.heard_at = time.monotonic()
            if "alive" in message:
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

    def lost(self, worker: WorkerProcess) -> None:
        """A worker's output ended: it was killed, or retired. One that never got ready is replaced by `maintain`, not at once."""
        with self._lock:
            if self._closing or worker not in self._pool:
                return
            run, worker.run = worker.run, None
            self._pool.remove(worker)
            if worker.was_ready:
                self._pool.append(self._new_worker())
        if run is not None:
            self._was_cut(run)
        self.signal.tell()

    def _was_cut(self, run: int) -> None:
        row = runs.get(self._store, run)
        if row["outcome"] == "running":
            self._interrupted(run, "its worker process was killed")
            self._recover(run, row["feed"])
        self.ended(run)

    def _interrupted(self, run: int, why: str) -> None:
        journal.add_log(self._store, run, "error", "run.interrupted", f"{why}; what was committed stays")
        runs.end(self._store, run, RunOutcome.INTERRUPTED, None)

    def _recover(self, run: int, feed: str) -> None:
        """Continue from the last committed cursor with a new run. If its runs are interrupted again and again, a scheduled feed waits
        longer and longer, and one that somebody started is left to them.
        """
        cut, row = runs.interrupted_in_a_row(self._store, feed), runs.get(self._store, run)
        not_before = None
        if cut > MOST_TAKE_UPS and row["trigger"] == "manual":
            words = f"{cut} runs in a row were interrupted; run the feed again by hand"
            journal.add_log(self._store, run, "error", "run.not_recovered", words)
            return
        if cut > MOST_TAKE_UPS:
            pause = timedelta(seconds=min(2.0 ** (cut - MOST_TAKE_UPS), LONGEST_PAUSE_SECONDS))
            not_before = text_of(datetime.now(UTC) + pause)
        try:
            with self._store.transaction() as connection:
                version = definitions.feed_version(self._store, feed)
                again = runs.queue_again(connection, run, version, not_before=not_before)
        except sqlite3.IntegrityError:
            return  # another run of the feed is there already
        words = f"run {again} continues from the last committed cursor" + (f", at {not_before}" if not_before else "")
        journal.add_log(self._store, run, "info", "run.recovered", words)
        self.dispatch()

    def _new_worker(self) -> WorkerProcess:
        return WorkerProcess(self._store.folder, self.reach, self.receive, self.lost)


class _Places:
    """How many more runs each source and warehouse allows at present; `max_concurrent_runs` says how many at once."""

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
