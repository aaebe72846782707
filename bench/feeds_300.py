"""feeds-300: 300 feeds, each `every: 1m` and with nothing to do, on this machine's two workers, for ten minutes.

Lag is from a run's moment to its start, as the store has both. Meanwhile the API is asked four times a second. There is no baseline: the
bound stands in its place, so the ratio is of the lag to what is allowed.
"""

from __future__ import annotations

import http.client
import json
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from . import one_run
from .api import TABLE
from .api_server import serving
from .measure import result

WHAT = "300 feeds, each `every: 1m` with nothing to do, ten minutes: start lag p99 (against the bound)"
BOUND = "lag p99 under 2 s, no run missed, service memory flat, API p95 under 50 ms"
FEEDS = 300
_LAG_SECONDS = 2.0


@contextmanager
def service_on(folder: Path) -> Iterator[tuple[subprocess.Popen[str], str, str]]:
    """(process, address, token)"""
    process = subprocess.Popen(
        [sys.executable, "-m", "reedbasket.cli.main", "serve", "--data", str(folder), "--port", "0"],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    line = process.stdout.readline()
    while not line.startswith("Reed Basket at "):
        line = process.stdout.readline()
    try:
        yield process, line.split()[3].rstrip(","), (folder / "token").read_text().strip()
    finally:
        process.terminate()
        process.wait()


class Asker:
    """One connection that stays open, as a browser's does."""

    def __init__(self, url: str, token: str) -> None:
        self._address = urlsplit(url)
        self._headers = {"authorization": f"Bearer {token}"}
        self._connection = http.client.HTTPConnection(self._address.hostname or "", self._address.port)
        self.seconds: dict[str, list[float]] = {}

    def ask(self, name: str, path: str) -> Any:
        began = time.perf_counter()
        self._connection.request("GET", path, headers=self._headers)
        answer = self._connection.getresponse()
        text = answer.read()
        self.seconds.setdefault(name, []).append(time.perf_counter() - began)
        assert answer.status == 200, (path, answer.status)
        return json.loads(text)

    def p95_ms(self) -> dict[str, float]:
        return {name: round(1000 * statistics.quantiles(found, n=20)[18], 1) for name, found in self.seconds.items()}


def memory_mb(pid: int) -> float:
    status = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":" in line)
    return int(status["VmRSS"].split()[0]) / 1024


def run(quick: bool) -> dict[str, Any]:
    minutes = 1 if quick else 10
    with tempfile.TemporaryDirectory() as name, serving(0) as api:
        folder = Path(name)
        with service_on(folder) as (process, url, token):
            from reedbasket.client import Client

            client = Client(url, token)
            feed = "feed: bench\nfrom: bench\ninto: marsh\ntables: [records]\nschedule: {every: 1m}"
            one = one_run.basket(api, TABLE, feed, pace="{concurrency: 8}")
            shared, _, feed = one.rpartition("---\n")
            feeds = (feed.replace("feed: bench", f"feed: f{n:03}\ntable_prefix: f{n:03}_") for n in range(FEEDS))
            client.definitions.apply({"bench.yaml": shared + "---\n" + "---\n".join(feeds)})
            time.sleep(75)  # every feed has run once: its tables are known
            begin = datetime.now().astimezone()
            asker, memory = Asker(url, token), [memory_mb(process.pid)]
            ends = time.monotonic() + 60 * minutes
            turn = 0
            while time.monotonic() < ends:
                asker.ask("feeds", "/api/v1/feeds") if turn % 4 == 0 else asker.ask("runs", "/api/v1/runs?limit=50")
                turn += 1
                latest = asker.ask("runs", "/api/v1/runs?limit=1")[0]["id"]
                asker.ask("run", f"/api/v1/runs/{latest}")
                time.sleep(0.25)
                if turn % 40 == 0:
                    memory.append(memory_mb(process.pid))
            memory.append(memory_mb(process.pid))
            worker = one_run_peak(process.pid)
        lags, missed, failed = _lags(folder, begin.isoformat(), minutes)
    p50, p99 = statistics.median(lags), statistics.quantiles(lags, n=100)[98]
    notes = [
        f"lag p50 {1000 * p50:.0f} ms, p99 {1000 * p99:.0f} ms, at most {1000 * max(lags):.0f} ms, of {len(lags):,} runs; "
        f"missed {missed}, failed {failed}",
        f"API p95 {', '.join(f'{name} {ms} ms' for name, ms in asker.p95_ms().items())}; "
        f"service {memory[0]:.0f} MB at first, {memory[len(memory) // 2]:.0f} halfway, {memory[-1]:.0f} at last",
    ]
    return result(p99, _LAG_SECONDS, worker, notes=notes)


def one_run_peak(service: int) -> float:
    from .noop import _worker_peak_mb

    return _worker_peak_mb(service)


def _lags(folder: Path, begin: str, minutes: int) -> tuple[list[float], int, int]:
    from datetime import UTC

    since = datetime.fromisoformat(begin).astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    db = sqlite3.connect(folder / "service.db")
    rows = db.execute(
        "select feed, due_at, started_at, outcome from run where trigger = 'schedule' and due_at >= ? and started_at is not null",
        (since,),
    ).fetchall()
    lags = [(datetime.fromisoformat(start) - datetime.fromisoformat(due)).total_seconds() for _, due, start, _ in rows]
    per_feed: dict[str, int] = {}
    for feed, *_ in rows:
        per_feed[feed] = per_feed.get(feed, 0) + 1
    # In so many minutes each has so many moments, less one where the first or the last lies at the edge.
    missed = sum(max(0, minutes - 1 - count) for count in per_feed.values()) + (FEEDS - len(per_feed)) * minutes
    return lags, missed, sum(outcome == "failed" for *_, outcome in rows)
