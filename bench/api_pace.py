"""api-pace: a source that allows 50 requests in any second and answers 429 above, asked for 20 s: by one feed, and by three in three
processes that share it; with the rate declared, and with nothing declared but what the source says in its answers.

The ratio is what was allowed (50 a second) over what was got, the worst of the four.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

from . import one_run
from .measure import own_peak_mb
from .slow_server import PER_SECOND, serving

WHAT = "a source of 50 requests a second, asked for 20 s by one feed and by three processes"
BOUND = "at least 95 % of what is allowed, so at most 1.05; no 429 after the first three"
SECONDS = 20.0

_TABLE = """  - table: list{n}
    get: /limited
    records: items
    total: total
    pagination: {{by: page_number, param: page, size: 1}}
    primary_key: id"""
_TABLES = "\n".join(_TABLE.format(n=n) for n in range(3))
_FEED = """feed: bench{n}
from: bench
into: marsh{n}
tables: [list{n}]
---
warehouse: marsh{n}
type: sqlite
path: marsh{n}.db"""
_FEEDS = "\n---\n".join(_FEED.format(n=n) for n in range(3))
_PACES = {"declared": "{per_second: 50, concurrency: 8}", "learned": "{concurrency: 8}"}


def run(quick: bool) -> dict[str, Any]:
    seconds = 6.0 if quick else SECONDS
    notes, shares, refusals = [], [], []
    for how, pace in _PACES.items():
        for feeds in (1, 3):
            told = _measured(pace, feeds, seconds)
            first = min(told["answered"])
            got = sum(1 for at in told["answered"] if at < first + seconds)
            share = got / (seconds * PER_SECOND)
            shares.append(share)
            refusals.append(len(told["refused"]))
            who = "one feed" if feeds == 1 else "three feeds in three processes"
            notes.append(f"{how}, {who}: {share:.1%} of what is allowed, {len(told['refused'])} answered 429")
    worst = min(shares)
    return {
        "ratio": round(1 / worst, 2),
        "ours_s": round(seconds / worst, 2),
        "baseline_s": seconds,
        "rss_mb": round(own_peak_mb()),
        "notes": notes,
    }


def _measured(pace: str, feeds: int, seconds: float) -> dict[str, list[float]]:
    with serving(0) as url, tempfile.TemporaryDirectory() as name:
        one_run.prepared(Path(name), one_run.basket(url, _TABLES, _FEEDS, pace=pace))
        workers = [subprocess.Popen([sys.executable, "-m", "bench.api_pace", name, f"bench{n}"]) for n in range(feeds)]
        try:
            time.sleep(seconds + 2.5)  # their start included
            with urllib.request.urlopen(f"{url}/told") as answer:
                told: dict[str, list[float]] = json.load(answer)
        finally:
            for worker in workers:
                worker.kill()
                worker.wait()
    return told


if __name__ == "__main__":
    one_run.run(Path(sys.argv[1]), sys.argv[2], may_fail=True)
