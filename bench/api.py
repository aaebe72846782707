"""api-sqlite, api-duckdb, api-pg: 200,000 nested JSON records in pages of 500 into parent and child tables.

Ours is a whole run as a worker does it: types, names, ledger, cursor, log of every request, all in the same files as in use.
The baseline (api_by_hand) fetches with urllib3, parses with orjson, flattens dicts and writes page by page in one transaction.
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from . import one_run
from .api_by_hand import BY_HAND, count_of
from .api_server import serving
from .measure import child, in_turn, own_peak_mb, result

WHAT = "200,000 nested records from an API into parent and child tables"
_MOST = {"sqlite": 0.70, "duckdb": 0.45, "postgres": 0.55}
_LARGE = 2_000_000

TABLE = """  - table: records
    get: /records
    query_params: {since: "{cursor.from}"}
    records: items
    pagination: {by: page_token, at: meta.next, param: after}
    primary_key: id
    cursor: {column: updated_at, from: 2026-01-01T00:00:00Z, overlap: 5m, sorted: true}
"""
FEED = "feed: bench\nfrom: bench\ninto: marsh\ntables: [records]\n"


def bound(engine: str) -> str:
    return f"at most {_MOST[engine]}; worker under 300 MB" + (", also at 2,000,000" if engine == "sqlite" else "")


def run(engine: str, quick: bool) -> dict[str, Any]:
    count = 50_000 if quick else 200_000
    peaks: list[float] = []
    more: dict[str, Any] = {}
    with _place(engine) as place:

        def ours(url: str, count: int) -> float:
            found = child("bench.api", "ours", engine, json.dumps(place), url, str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        def baseline(url: str) -> float:
            return float(child("bench.api", "baseline", engine, json.dumps(place), url, str(count))["seconds"])

        with serving(count) as url:
            mine, theirs = in_turn(3 if quick else 5, lambda: ours(url, count), lambda: baseline(url))
        if not quick and engine == "sqlite":
            with serving(_LARGE) as url:
                seconds = ours(url, _LARGE)
            more["notes"] = [f"the same worker at 2,000,000 records: {peaks[-1]:.0f} MB, {seconds:.1f} s"]
    return result(mine, theirs, max(peaks), **more)


@contextmanager
def _place(engine: str) -> Iterator[dict[str, Any]]:
    """Where a warehouse of the engine is; files stand in each measurement's own folder."""
    if engine == "postgres":
        from .warehouses import cluster

        with cluster() as where:
            yield where
    else:
        yield {"type": engine, "path": "marsh.db"}


def run_ours(url: str, folder: Path, place: dict[str, Any]) -> float:
    one_run.prepared(folder, one_run.basket(url, TABLE, FEED, pace="{concurrency: 4}", warehouse=place))
    return one_run.run(folder, "bench")


def main(which: str, engine: str, where: str, url: str, count: int) -> None:
    place = json.loads(where)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if engine == "postgres":
            place["schema"] = which + folder.name.replace("-", "_").lower()
        seconds = run_ours(url, folder, place) if which == "ours" else BY_HAND[engine](url, folder, place)
        peak = own_peak_mb()
        found = count_of(engine, folder / "warehouses" if which == "ours" else folder, place)
        assert found == count, f"{found} rows, not {count}"
    print(json.dumps({"seconds": seconds, "rss_mb": peak}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], sys.argv[3], sys.argv[4], int(sys.argv[5]))
