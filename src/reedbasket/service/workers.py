"""The pool of worker processes, and who runs what."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

from ..core.errors import Conflict
from ..core.run import RunOutcome
from ..store import Store, definitions, journal, runs
from ..store.pace import process_lives

# A feed whose runs are cut this many times in a row is not taken up again by itself: something kills it on purpose.
MOST_TAKE_UPS = 3
_STOP_SECONDS = 5.0


class Signal:
    """Wakes whoever waits for news of runs. `_changed` guards the count."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._count = 0

    def tell(self) -> None:
        with self._changed:
            self._count += 1
            self._changed.notify_all()

    def count(self) -> int:
        with self._changed:
            return self._count

    def wait(self, seen: int, seconds: float) -> int:
        """Until there is news after `seen`, or the time is over: the count now."""
        with self._changed:
            self._changed.wait_for(lambda: self._count != seen, timeout=max(0.0, seconds))
            return self._count


class Workers:
    """`_lock` guards `_pool` and the dispatching; each worker has a thread that hears what it says."""

    def __init__(self, store: Store, count: int) -> None:
        self._store = store
        self._count = count
        self._lock = threading.RLock()
        self._pool: list[_Hand] = []
        self._closing = False
        self.signal = Signal()

    def start(self) -> list[int]:
        """Close what an earlier service left running, start the workers, and take up what was interrupted: those runs."""
        for run, _, pid in runs.running(self._store):
            if pid is not None:
                _end_leftover(pid)
            self._interrupted(run, "the service ended while it ran")
        with self._lock:
            for _ in range(self._count):
                self._pool.append(_Hand(self))
        found = runs.left_interrupted(self._store)
        for run, feed in found:
            self._take_up(run, feed)
        self.dispatch()
        return [run for run, _ in found]

    def stop(self) -> None:
        """End all workers. What they were running becomes interrupted, and is taken up at the next start."""
        with self._lock:
            self._closing = True
            pool, self._pool = self._pool, []
        for hand in pool:
            hand.close()
        for run, _, _ in runs.running(self._store):
            self._interrupted(run, "the service was stopped")

    def ask(self, feed: str, feed_version: int, *, accept: bool = False, again: bool = False) -> int:
        """Queue a run and hand it out if a worker is free. Raises Conflict."""
        run = runs.ask(self._store, feed, feed_version, accept=accept, again=again)
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
            for hand in self._pool:
                if hand.run == run:
                    hand.send({"cancel": run})
                    return
        outcome = runs.outcome(self._store, run)
        raise Conflict(
            "cancelling the run",
            str(run),
            found=f"it is {outcome}",
            mend="nothing is left to cancel",
            code="run.not_active",
        )

    def dispatch(self) -> None:
        with self._lock:
            if self._closing:
                return
            for hand in self._pool:
                if not hand.ready or hand.run is not None:
                    continue
                run = runs.next_queued(self._store)
                if run is None:
                    return
                if runs.take(self._store, run, hand.pid):
                    hand.run = run
                    hand.send({"run": run})

    # Threads that hear workers

    def heard(self, hand: _Hand, message: dict[str, int]) -> None:
        with self._lock:
            if "ready" in message:
                hand.ready = True
            elif "done" in message:
                hand.run = None
                if message.get("retiring"):
                    hand.ready = False  # it has grown too large, and ends; nothing more is handed to it
        self.signal.tell()
        if "told" not in message:
            self.dispatch()

    def lost(self, hand: _Hand) -> None:
        """A worker's output ended: it was killed, or retired."""
        with self._lock:
            if self._closing or hand not in self._pool:
                return
            run, hand.run = hand.run, None
            self._pool[self._pool.index(hand)] = _Hand(self)
        if run is not None:
            row = runs.get(self._store, run)
            if row["outcome"] == RunOutcome.RUNNING:
                self._interrupted(run, "its worker process was killed")
                self._take_up(run, row["feed"])
        self.signal.tell()

    def _interrupted(self, run: int, why: str) -> None:
        journal.add_log(self._store, run, "error", "run.interrupted", f"{why}; what was committed stays")
        runs.end(self._store, run, RunOutcome.INTERRUPTED, None)

    def _take_up(self, run: int, feed: str) -> None:
        """Go on from the last committed cursor with a new run, unless the feed's runs are cut again and again."""
        if runs.interrupted_in_a_row(self._store, feed) > MOST_TAKE_UPS:
            words = f"{MOST_TAKE_UPS + 1} runs in a row were cut; run the feed again by hand"
            journal.add_log(self._store, run, "error", "run.not_taken_up", words)
            return
        try:
            again = runs.ask(self._store, feed, definitions.feed_version(self._store, feed), resumes=run)
        except Conflict:
            return
        journal.add_log(self._store, run, "info", "run.taken_up", f"run {again} goes on from the last committed cursor")
        self.dispatch()

    @property
    def folder(self) -> Path:
        return self._store.folder


class _Hand:
    """One worker process. `run` is what it works on; both fields are guarded by the pool's lock."""

    def __init__(self, owner: Workers) -> None:
        self.run: int | None = None
        self.ready = False
        self._process = subprocess.Popen(
            [sys.executable, "-m", "reedbasket.service.worker", str(owner.folder)],
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

    def close(self) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.close()
            self._process.wait(_STOP_SECONDS)
        except (OSError, subprocess.TimeoutExpired):
            self._process.kill()
            self._process.wait()

    def _hear(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            try:
                message = json.loads(line)
            except ValueError:
                continue  # something printed into our line; what matters stands in the store
            self._owner.heard(self, message)
        self._process.wait()
        self._owner.lost(self)


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
