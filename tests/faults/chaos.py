"""Many feeds by windows, while everything goes wrong: workers and the service are killed, the clock jumps, the disk fills, the store is
locked, the mail server is away. Afterwards every window has come in exactly once, every load reconciles, and nothing is stuck.

`python -m tests.faults.chaos --feeds 200 --seconds 300` (five minutes); a short form is among the tests.
"""

from __future__ import annotations

import argparse
import itertools
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from reedbasket.client import Client
from tests.support.processes import workers_of
from tests.support.source import Answer, Request, serving

BASKET = """
connector: readings-api
type: http
settings: {{url: {{type: url}}, place: {{type: text, default: x}}, token: {{type: secret}}}}
base_url: "{{settings.url}}"
retry: {{attempts: 2, first_wait: 10ms, cooldown_after_failures: 1000}}
tables:
  - table: readings
    get: /readings
    query_params: {{from: "{{window.from}}", place: "{{settings.place}}"}}
    records: items
    window: {{from: 2026-11-20, length: 1d}}
---
source: readings
connector: readings-api
settings: {{url: "{url}", token: {{secret: t}}}}
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: f{{variant.n}}
variants: [{sets}]
from: readings
into: marsh
table_prefix: f{{variant.n}}_
tables: [{{table: readings, write: append}}]
retry_runs: {{attempts: 20, first_wait: 500ms}}
schedule: {{windows: {{from: "{start}", length: {step}}}}}
"""
PER_WINDOW = 3


class Chaos:
    def __init__(self, folder: Path, feeds: int, seed: int) -> None:
        self.folder = folder / "data"
        self.offset = folder.parent / f"{folder.name}.offset"
        self.random = random.Random(seed)
        self.feeds = feeds
        self.done: Counter[str] = Counter()
        self.process: subprocess.Popen[str] | None = None
        self.url = ""

    def start(self) -> None:
        while True:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "tests.faults.jumping_service", str(self.folder), str(self.offset), "127.0.0.1:9"],
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                text=True,
            )
            assert self.process.stdout is not None
            self.url = self.process.stdout.readline().strip()
            if self.url:
                return
            self.process.wait(10)
            time.sleep(0.2)  # the disk is full, or the one before still holds the folder

    @property
    def client(self) -> Client:
        return Client(self.url, (self.folder / "token").read_text().strip())

    def workers(self) -> list[int]:
        assert self.process is not None
        return workers_of(self.process.pid)

    # What goes wrong

    def kill_workers(self) -> None:
        for pid in self.workers():
            if self.random.random() < 0.7:
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)

    def kill_service(self) -> None:
        assert self.process is not None
        self.process.send_signal(self.random.choice([signal.SIGKILL, signal.SIGKILL, signal.SIGTERM]))
        self.process.wait(30)
        self.start()

    def jump(self) -> None:
        self.offset.write_text(str(self.random.choice([-600, -90, 0, 45, 150])))

    def fill_disk(self) -> None:
        filler = self.folder.parent / "filler"
        free = shutil.disk_usage(self.folder.parent).free
        if free > 2**30:
            return  # no disk of its own
        try:
            with suppress(OSError):
                filler.write_bytes(b"\0" * free)
            time.sleep(self.random.uniform(0.5, 2))
        finally:
            filler.unlink(missing_ok=True)

    def lock_store(self) -> None:
        with suppress(sqlite3.Error):
            other = sqlite3.connect(self.folder / "service.db", timeout=5, isolation_level=None)
            try:
                other.execute("begin exclusive")
                time.sleep(self.random.uniform(0.5, 3))
                other.execute("rollback")
            finally:
                other.close()

    def go_on(self, seconds: float) -> None:
        things: list[Callable[[], None]] = [self.kill_workers, self.kill_workers, self.kill_service, self.jump, self.fill_disk]
        things.append(self.lock_store)
        ends = time.monotonic() + seconds
        while time.monotonic() < ends:
            time.sleep(self.random.uniform(0.3, 2.5))
            thing = self.random.choice(things)
            self.done[thing.__name__] += 1
            thing()

    # What it comes to

    def settle(self, seconds: float) -> None:
        """Everything is well again: what is due comes in. What was given up is run again, as people would."""
        self.offset.write_text("0")
        ends = time.monotonic() + seconds
        while True:
            client = self.client
            states = Counter[str]()
            for feed in client.feeds.list():
                states.update(feed["schedule"]["windows"])
                if feed["schedule"]["windows"].get("failed"):
                    client.feeds.retry_windows(feed["name"], "2020-01-01", "2099-01-01")
            if states["waiting"] + states["queued"] + states["failed"] <= 0:
                return
            assert time.monotonic() < ends, f"stuck: {dict(states)}, runs {list(client.runs.list(limit=5))}"
            time.sleep(1)

    def check(self) -> str:
        assert self.process is not None
        client = self.client
        for name in [f"f{n}" for n in range(self.feeds)]:
            client.feeds.pause(name)
        ends = time.monotonic() + 60
        while any(feed["activity"] != "idle" for feed in client.feeds.list()):
            assert time.monotonic() < ends, "a run is stuck"
            time.sleep(0.2)
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(30)
        store, marsh = sqlite3.connect(self.folder / "service.db"), sqlite3.connect(self.folder / "warehouses" / "marsh.db")
        total = 0
        for number in range(self.feeds):
            windows = store.execute(
                "select begins, ends, state from due_window where feed = ? and backfill = 0 order by begins", (f"f{number}",)
            ).fetchall()
            assert all(a[1] == b[0] for a, b in itertools.pairwise(windows)), "windows meet"
            done = {begins for begins, _, state in windows if state == "done"}
            came = dict(
                marsh.execute(
                    f"select replace(substr(at, 1, 19), ' ', 'T') || 'Z', count(*) from f{number}_readings group by at"
                )
            )
            assert came == dict.fromkeys(done, PER_WINDOW), (
                number,
                set(came) ^ done,
                [c for c in came.values() if c != PER_WINDOW],
            )
            total += len(done)
        lines = marsh.execute(
            """select count(*), sum(read = inserted + updated + deleted + unchanged + superseded + rejected), sum(inserted)
               from _rb_ledger"""
        ).fetchone()
        assert lines[0] == lines[1], "every load reconciles"
        assert lines[2] == total * PER_WINDOW
        assert store.execute("select count(*) from run where outcome in ('queued', 'running')").fetchone()[0] == 0
        runs = dict(store.execute("select outcome, count(*) from run group by outcome"))
        return f"{self.feeds} feeds, {total} windows once each, runs {runs}, faults {dict(self.done)}"


@contextmanager
def disk(megabytes: int) -> Iterator[Path]:
    """A disk of its own where one can be mounted, so that it can be filled."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "disk"
        folder.mkdir()
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "tmpfs", str(folder)], capture_output=True
        )
        try:
            yield folder
        finally:
            if mounted.returncode == 0:
                subprocess.run(["umount", "--lazy", str(folder)])


def chaos(feeds: int, seconds: float, seed: int, step: str = "1m") -> str:
    def answer(request: Request) -> Answer:
        items: list[dict[str, Any]] = [{"at": request.query["from"], "n": n} for n in range(PER_WINDOW)]
        return Answer({"items": items}, 503 if made.random.random() < 0.01 else 200)

    with disk(400) as folder, serving(answer) as source:
        made = Chaos(folder, feeds, seed)
        start = (datetime.now(UTC) - timedelta(minutes=3)).strftime("%Y-%m-%dT%H:%M:00Z")
        sets = ", ".join(f"{{n: {n}, place: p{n}}}" for n in range(feeds))
        made.start()
        made.client.secrets.set("t", "not-shown")
        made.client.definitions.apply({"b.yaml": BASKET.format(url=source.url, start=start, sets=sets, step=step)})
        try:
            made.go_on(seconds)
            made.settle(60 + 3 * feeds)
            return made.check()
        finally:
            if made.process is not None:
                made.process.kill()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--feeds", type=int, default=200)
    parser.add_argument("--seconds", type=float, default=300)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--step", default="1m")
    options = parser.parse_args()
    print(f"seed {options.seed}", flush=True)
    print(chaos(options.feeds, options.seconds, options.seed, options.step))


if __name__ == "__main__":
    main()
