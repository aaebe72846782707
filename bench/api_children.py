"""api-children: 1,000 parents with one request each for their child, 20 ms a request, 8 at once, into SQLite.

The ideal: the parents' one request, and a thousand divided by 8.
"""

from __future__ import annotations

import json
import sqlite3
import sys
import tempfile
from pathlib import Path
from typing import Any

from . import one_run
from .measure import child, in_turn, own_peak_mb, result
from .slow_server import serving

WHAT = "1,000 parents with one child request each, 20 ms, 8 at once"
BOUND = "at most 1.25 of the ideal"
PARENTS, LATENCY_MS, AT_ONCE = 1_000, 20, 8

_TABLES = """  - {table: parents, get: /parents, primary_key: id}
  - table: children
    parent: {table: parents}
    get: "/parents/{parent.id}/child"
    add_columns: {parent: "{parent.id}"}
    primary_key: parent
"""


def run(quick: bool) -> dict[str, Any]:
    parents = 300 if quick else PARENTS
    peaks: list[float] = []
    with serving(parents, LATENCY_MS) as url:

        def ours() -> float:
            found = child("bench.api_children", url, str(parents))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, theirs = in_turn(3 if quick else 5, ours, lambda: (1 + parents / AT_ONCE) * LATENCY_MS / 1000)
    return result(mine, theirs, max(peaks))


def main(url: str, parents: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        text = one_run.basket(url, _TABLES, "feed: bench\nfrom: bench\ninto: marsh\ntables: [parents, children]\n")
        one_run.prepared(folder, text)
        seconds = one_run.run(folder, "bench")
        found = sqlite3.connect(folder / "warehouses" / "marsh.db").execute("select count(*) from children").fetchone()[0]
        assert found == parents, found
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
