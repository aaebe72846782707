"""api-sqlite: 200,000 nested JSON records in pages of 500 into SQLite parent and child tables.

Ours is a whole run as a worker does it: types, names, ledger, cursor, log of every request, all in the same files as in use.
The baseline fetches with urllib3, parses with orjson, flattens dicts and writes with executemany, in one transaction.
"""

from __future__ import annotations

import json
import sqlite3
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from .api_server import serving
from .measure import child, in_turn, own_peak_mb, result

WHAT = "200,000 nested records from an API into SQLite parent and child tables"
BOUND = "at most 0.80; worker under 300 MB, also at 2,000,000"

BASKET = """
connector: bench-api
on: http
settings: {{url: {{type: url}}}}
base: "{{settings.url}}"
tables:
  records:
    get: /records
    send: {{since: "{{cursor.from}}"}}
    records: items
    next: {{token: meta.next, as: after}}
    key: id
    cursor: {{column: updated_at, start: 2026-01-01T00:00:00Z, overlap: 5m, sorted: true}}
---
source: bench
connector: bench-api
settings: {{url: "{url}"}}
---
warehouse: marsh
on: sqlite
path: marsh.db
---
feed: bench
from: bench
into: marsh
tables: {{records: }}
"""


def run(quick: bool) -> dict[str, Any]:
    count = 50_000 if quick else 200_000
    peaks: list[float] = []
    with serving(count) as url:

        def ours() -> float:
            found = child("bench.api_sqlite", "ours", url, str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        def baseline() -> float:
            return float(child("bench.api_sqlite", "baseline", url, str(count))["seconds"])

        mine, theirs = in_turn(3 if quick else 5, ours, baseline)
    more: dict[str, Any] = {}
    if not quick:
        with serving(2_000_000) as url:
            large = child("bench.api_sqlite", "ours", url, "2000000")
        peaks.append(large["rss_mb"])
        more["notes"] = [f"the same worker at 2,000,000 records: {large['rss_mb']:.0f} MB, {large['seconds']:.1f} s"]
    return result(mine, theirs, max(peaks), **more)


def run_ours(url: str, folder: Path) -> float:
    from reedbasket.core.spec import load_texts
    from reedbasket.service.worker import Worker
    from reedbasket.store import Store, definitions, runs

    store = Store(folder)
    store.upgrade()
    definitions.apply(store, load_texts({"bench.yaml": BASKET.format(url=url)}))
    number = runs.ask(store, "bench", 1)
    runs.take(store, number, 0)
    worker = Worker(folder)
    worker.prepare()
    worker._tell = lambda **_: None  # type: ignore[method-assign]  # nobody listens on the other end here
    began = time.perf_counter()
    worker._run(number)
    seconds = time.perf_counter() - began
    assert runs.outcome(store, number) == "succeeded", runs.get(store, number)
    return seconds


def flatten(record: dict[str, Any], prefix: str = "") -> dict[str, Any]:
    flat: dict[str, Any] = {}
    for name, value in record.items():
        if isinstance(value, dict):
            flat.update(flatten(value, f"{prefix}{name}_"))
        elif not isinstance(value, list):
            flat[prefix + name] = value
    return flat


def run_baseline(url: str, path: Path) -> float:
    import orjson
    import urllib3

    began = time.perf_counter()
    http = urllib3.PoolManager()
    db = sqlite3.connect(path)
    db.execute("pragma journal_mode = wal")
    db.execute("pragma synchronous = normal")
    db.execute(
        """create table records (id text primary key, number integer, name text, state text, weight real, checked integer,
           place_landing text, place_berth integer, place_lat real, made_at text, updated_at text)"""
    )
    db.execute(
        """create table records_lines (parent text, pos integer, item text, count integer, price real,
           primary key (parent, pos))"""
    )
    token: str | None = ""
    while token is not None:
        body = orjson.loads(http.request("GET", f"{url}/records?after={token or 0}").data)
        parents, children = [], []
        for record in body["items"]:
            parents.append(flatten(record))
            for position, line in enumerate(record["lines"]):
                children.append({"parent": record["id"], "pos": position, **flatten(line)})
        db.executemany(
            """insert or replace into records values (:id, :number, :name, :state, :weight, :checked, :place_landing,
               :place_berth, :place_lat, :made_at, :updated_at)""",
            parents,
        )
        db.executemany("insert or replace into records_lines values (:parent, :pos, :item, :count, :price)", children)
        token = body["meta"]["next"]
    db.commit()
    return time.perf_counter() - began


def main(which: str, url: str, count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        seconds = run_ours(url, folder) if which == "ours" else run_baseline(url, folder / "marsh.db")
        db = sqlite3.connect(folder / "marsh.db")
        assert db.execute("select count(*) from records").fetchone()[0] == count
        db.close()
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
