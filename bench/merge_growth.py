"""merge-growth: 100,000 changed rows by `upsert` into 2,000,000 against into 200,000 (SQLite).

Here the ratio is large / small of our own loader: `ours_s` is the merge into the large table, `baseline_s` into the small
one. It says whether time grows with the change, as it should, or with the table.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from .measure import child, in_turn, own_peak_mb, result

WHAT = "100,000 changed rows merged into 2,000,000 against into 200,000"
BOUND = "at most 2.0"
CHANGES = 100_000


def run(quick: bool) -> dict[str, Any]:
    large, small = (600_000, 60_000) if quick else (2_000_000, 200_000)
    changes = CHANGES * large // 2_000_000
    peaks = []
    with tempfile.TemporaryDirectory() as name:
        for size in (large, small):
            child("bench.merge_growth", "fill", f"{name}/{size}.db", str(size), "0")
        turn = [0]

        def merge(size: int) -> float:
            turn[0] += 1
            found = child("bench.merge_growth", "upsert", f"{name}/{size}.db", str(size), str(changes), str(turn[0]))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        ours, baseline = in_turn(3 if quick else 5, lambda: merge(large), lambda: merge(small))
    return result(ours, baseline, max(peaks))


def _records(numbers: range, turn: int) -> list[dict[str, Any]]:
    return [
        {
            "id": f"R-{n:07d}",
            "number": n,
            "name": f"record {n} as of {turn}",
            "state": "open",
            "weight": n * 0.5,
            "turn": turn,
            "updated_at": "2026-01-01T00:00:00Z",
        }
        for n in numbers
    ]


def main(what: str, path: str, size: int, changes: int, turn: int = 0) -> None:
    from reedbasket.core.shaping import Shaper, TableShape
    from reedbasket.core.warehouses import LoadTarget, Position
    from reedbasket.core.warehouses.sqlite.warehouse import SqliteWarehouse

    warehouse = SqliteWarehouse(Path(path))
    state = warehouse.state("bench", "records")
    target = LoadTarget(turn + 1, "bench", "bench", "records", "records", "upsert", ["id"], "key")
    load = warehouse.begin(target, state)
    shaper = Shaper(state.structure if state else TableShape("records"), ["id"], "key", newest_by="updated_at")
    # Changes are scattered evenly over the whole table, which is the hard case for its index and pages.
    numbers = range(0, size) if what == "fill" else range(turn % (size // changes), size, size // changes)
    owner = 0
    began = time.perf_counter()
    for start in range(0, len(numbers), 2000):
        shaped = shaper.shape(_records(numbers[start : start + 2000], turn), owner)
        owner += shaped.records
        load.stage(shaped.family, shaped.batches)
    now = datetime.now(UTC)
    lines = load.commit(shaper.family, shaper.structure.to_data(), Position(None, None, 0, 0, 0, now), now)
    seconds = time.perf_counter() - began
    assert lines[0].read == (size if what == "fill" else changes)
    assert what == "fill" or lines[0].updated == changes, lines
    warehouse.close()
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], *map(int, sys.argv[3:]))
