"""two-warehouses: 200,000 nested records from an API into SQLite and DuckDB by one feed, beside the slower of the two alone."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from . import one_run
from .api import FEED, TABLE
from .api_server import serving
from .measure import child, in_turn, own_peak_mb, result

WHAT = "200,000 nested records into two warehouses from one read, beside the slower one alone"
BOUND = "at most 1.15; worker under 300 MB"
_PLACES = {"marsh": {"type": "sqlite", "path": "marsh.db"}, "duck": {"type": "duckdb", "path": "duck.duckdb"}}


def run(quick: bool) -> dict[str, Any]:
    count = 50_000 if quick else 200_000
    peaks: list[float] = []
    with serving(count) as url:

        def one(which: str) -> float:
            found = child("bench.two_warehouses", which, url)
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        alone = {name: one(name) for name in _PLACES}
        slower = max(alone, key=alone.__getitem__)
        mine, theirs = in_turn(3 if quick else 5, lambda: one("both"), lambda: one(slower))
    notes = [f"alone: {', '.join(f'{name} {seconds:.2f} s' for name, seconds in alone.items())}"]
    return result(mine, theirs, max(peaks), notes=notes)


def main(which: str, url: str) -> None:
    into = list(_PLACES) if which == "both" else [which]
    feed = FEED.replace("into: marsh", f"into: [{', '.join(into)}]")
    places = "\n---\n".join(json.dumps({"warehouse": name, **_PLACES[name]}) for name in into if name != "marsh")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        text = one_run.basket(url, TABLE, feed + ("---\n" + places if places else ""), pace="{concurrency: 4}")
        one_run.prepared(folder, text)
        seconds = one_run.run(folder, "bench")
        print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
