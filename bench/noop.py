"""noop: a run that finds nothing new, `reed run FEED --wait` to its outcome, against the bare request to the API plus one
empty SQLite transaction in a fresh Python process."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from . import one_run
from .api import FEED, TABLE
from .api_server import serving
from .measure import in_turn, result

WHAT = "`reed run --wait` of a feed with nothing new, to its outcome"
BOUND = "at most 2.5; at most 0.5 s, our own part at most 0.25 s"

_BARE = """
import sqlite3, sys, urllib3
urllib3.PoolManager().request("GET", sys.argv[1])
db = sqlite3.connect(sys.argv[2], isolation_level=None)
db.execute("begin immediate")
db.execute("commit")
"""


def run(quick: bool) -> dict[str, Any]:
    import urllib3

    from reedbasket.client import Client

    with tempfile.TemporaryDirectory() as name, serving(1000) as api:
        folder = Path(name)
        service = subprocess.Popen(
            [sys.executable, "-m", "reedbasket.cli.main", "serve", "--data", name, "--port", "0"],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert service.stdout is not None
        url = service.stdout.readline()
        while not url.startswith("Reed Basket at "):
            url = service.stdout.readline()
        client = Client(url.split()[3].rstrip(","), (folder / "token").read_text().strip())
        try:
            basket = one_run.basket(api, TABLE, FEED, pace="{concurrency: 4}")
            client.definitions.apply({"bench.yaml": basket})
            assert client.feeds.run("bench", wait_seconds=50)["outcome"] == "succeeded"
            # From now on the API has nothing: what a quiet hour looks like.
            quiet = basket.replace('query_params: {since: "{cursor.from}"}', 'query_params: {since: "{cursor.from}", empty: 1}')
            client.definitions.apply({"bench.yaml": quiet})
            own: list[float] = []

            def ours() -> float:
                began = time.perf_counter()
                subprocess.run(
                    [sys.executable, "-m", "reedbasket.cli.main", "run", "bench", "--wait"],
                    env={**os.environ, "REED_DATA": name},
                    check=True,
                    stdout=subprocess.DEVNULL,
                )
                seconds = time.perf_counter() - began
                latest = client.runs.list(limit=1)[0]
                assert latest["outcome"] == "succeeded" and latest["totals"]["read"] == 0, latest
                asked = time.perf_counter()
                urllib3.request("GET", f"{api}/records?empty=1")
                own.append(seconds - (time.perf_counter() - asked))
                return seconds

            def baseline() -> float:
                began = time.perf_counter()
                subprocess.run([sys.executable, "-c", _BARE, f"{api}/records?empty=1", str(folder / "bare.db")], check=True)
                return time.perf_counter() - began

            mine, theirs = in_turn(7 if quick else 15, ours, baseline)
            rss = _worker_peak_mb(service.pid)
        finally:
            service.terminate()
            service.wait()
    note = f"our own part, without the source's answer: {statistics.median(own):.3f} s"
    return result(mine, theirs, rss, notes=[note], own_s=round(statistics.median(own), 3))


def _worker_peak_mb(service: int) -> float:
    """The largest of the service's worker processes."""
    peaks = [0.0]
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                status = dict(line.split(":", 1) for line in (entry / "status").read_text().splitlines())
            except OSError:
                continue
            if int(status.get("PPid", 0)) == service:
                peaks.append(int(status["VmHWM"].split()[0]) / 1024)
    return max(peaks)


if __name__ == "__main__":
    print(run("--quick" in sys.argv))
