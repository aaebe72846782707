"""api-latency: 200 pages by offset, 200 records each, 20 ms a page, 8 at once, into SQLite.

The ideal: the pages' waiting divided by 8, and parsing and loading them by hand, out of memory.
"""

from __future__ import annotations

import json
import sqlite3
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from . import one_run
from .api_by_hand import TABLES, flatten, insert_page
from .measure import child, in_turn, own_peak_mb, result
from .slow_server import page, serving

WHAT = "200 pages of 200 records by offset, 20 ms each, 8 at once"
BOUND = "at most 1.15 of the ideal"
PAGES, TAKE, LATENCY_MS, AT_ONCE = 200, 200, 20, 8

_TABLE = """  - table: records
    get: /records
    records: items
    total: total
    pagination: {by: offset, param: skip, size: %d, size_param: take}
    primary_key: id
"""


def run(quick: bool) -> dict[str, Any]:
    pages = 60 if quick else PAGES
    peaks: list[float] = []
    with serving(pages * TAKE, LATENCY_MS, take=TAKE) as url:

        def ours() -> float:
            found = child("bench.api_latency", "ours", url, str(pages))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        def ideal() -> float:
            by_hand = float(child("bench.api_latency", "by hand", url, str(pages))["seconds"])
            return by_hand + pages * LATENCY_MS / 1000 / AT_ONCE

        mine, theirs = in_turn(3 if quick else 5, ours, ideal)
    return result(mine, theirs, max(peaks))


def main(which: str, url: str, pages: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if which == "ours":
            text = one_run.basket(url, _TABLE % TAKE, "feed: bench\nfrom: bench\ninto: marsh\ntables: [records]\n")
            one_run.prepared(folder, text)
            loaded, seconds = folder / "warehouses" / "marsh.db", one_run.run(folder, "bench")
        else:
            loaded, seconds = folder / "marsh.db", _by_hand(folder / "marsh.db", pages)
        found = sqlite3.connect(loaded).execute("select count(*) from records").fetchone()[0]
        assert found == pages * TAKE, found
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


def _by_hand(path: Path, pages: int) -> float:
    import orjson

    bodies = [page(n * TAKE, TAKE, pages * TAKE) for n in range(pages)]
    began = time.perf_counter()
    db = sqlite3.connect(path)
    db.execute("pragma journal_mode = wal")
    db.execute("pragma synchronous = normal")
    for table in TABLES:
        db.execute(table.format(schema=""))
    for body in bodies:
        parents, children = [], []
        for record in orjson.loads(body)["items"]:
            parents.append(flatten(record))
            children += [{"parent": record["id"], "pos": at, **flatten(line)} for at, line in enumerate(record["lines"])]
        insert_page(db, parents, children)
    db.commit()
    return time.perf_counter() - began


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
