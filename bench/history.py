"""history: 100,000 changes among 2,000,000 current versions, against our own `upsert` of the same on the same engine.

Here the baseline is our merge. The ratio of the case is SQLite's; those of the other engines stand in the notes.
"""

from __future__ import annotations

import json
import sys
from contextlib import ExitStack
from typing import Any

from . import merge
from .measure import child, in_turn, own_peak_mb, result

WHAT = "100,000 changes among 2,000,000 versions by `versions`, against our `upsert` of them"
BOUND = "at most 1.6"


def run(quick: bool) -> dict[str, Any]:
    found = {engine: _one(engine, quick) for engine in ("sqlite", "duckdb", "postgres")}
    notes = [f"{engine}: {f['ratio']}" for engine, f in found.items()]
    worst = max(found.values(), key=lambda f: float(f["ratio"]))
    return {**worst, "notes": notes}


def _one(engine: str, quick: bool) -> dict[str, Any]:
    size = 400_000 if quick else 2_000_000
    changes = merge.CHANGES * size // 2_000_000
    peaks: list[float] = []
    turn = [0]
    with ExitStack() as stack:
        place = merge.places(engine, ["versions", "upsert"], stack)
        for write in ("versions", "upsert"):
            child("bench.history", "fill", write, place[write], str(size), "0", "0")

        def once(write: str) -> float:
            turn[0] += 1
            done = child("bench.history", "change", write, place[write], str(size), str(changes), str(turn[0]))
            peaks.append(done["rss_mb"])
            return float(done["seconds"])

        ours, theirs = in_turn(3, lambda: once("versions"), lambda: once("upsert"))
    return result(ours, theirs, max(peaks))


def main(what: str, write: str, place: str, size: int, changes: int, turn: int) -> None:
    where, seconds = json.loads(place), 0.0
    if what == "fill":
        merge.fill(where, size, write)
    else:
        seconds = merge.ours(where, merge.changed(size, changes, turn), turn, write)
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], sys.argv[3], *map(int, sys.argv[4:]))
