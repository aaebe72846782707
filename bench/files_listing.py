"""files-listing: a folder of 20,000 files, of which 50 are new: finding and loading them, against the bare listing and reading the 50."""

from __future__ import annotations

import csv
import json
import os
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from . import one_run
from .files import basket
from .measure import child, in_turn, own_peak_mb, result

WHAT = "20,000 files, 50 of them new, into SQLite"
BOUND = "at most 1.3 of the bare listing plus reading the 50"
_FILES, _NEW, _ROWS = 20_000, 50, 2_000


def run(quick: bool) -> dict[str, Any]:
    count = 4_000 if quick else _FILES
    peaks: list[float] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "data").mkdir()
        for number in range(count):
            put(folder, number, 1)
        child("bench.files_listing", "ours", name)

        def ours() -> float:
            new(folder)
            found = child("bench.files_listing", "ours", name)
            if found["read"] != _NEW * _ROWS:
                raise SystemExit(f"read {found['read']}")
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        def theirs() -> float:
            return float(child("bench.files_listing", "by-hand", name)["seconds"])

        mine, other = in_turn(3 if quick else 15, ours, theirs)
    return result(mine, other, max(peaks))


def put(folder: Path, number: int, rows: int) -> None:
    path = folder / "in" / f"{number % 40:02d}" / f"part-{number:06d}.csv"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("id,gate,value\n" + "".join(f"{number * 10_000 + row},north,{row % 7}\n" for row in range(rows)))
    os.utime(path, (time.time() - 60, time.time() - 60))


def new(folder: Path) -> None:
    """Fifty more, noted for the baseline."""
    first = sum(1 for _ in folder.glob("in/*/*.csv"))
    for number in range(first, first + _NEW):
        put(folder, number, _ROWS)
    (folder / "new.json").write_text(json.dumps([first, first + _NEW]))


def by_hand(folder: Path) -> None:
    """Every file listed with its size and time, the fifty read into rows, the rows inserted."""
    import sqlite3

    low, high = json.loads((folder / "new.json").read_text())
    began = time.perf_counter()
    found = []
    for inner in os.scandir(folder / "in"):
        for entry in os.scandir(inner.path):
            told = entry.stat()
            found.append((entry.path, told.st_size, told.st_mtime))
    db = sqlite3.connect(folder / "hand.db")
    db.execute("create table if not exists wide (id integer, gate text, value integer)")
    for path, _, _ in found:
        if low <= int(path[-10:-4]) < high:
            with open(path, newline="") as file:
                rows = csv.reader(file)
                next(rows)
                db.executemany("insert into wide values (?, ?, ?)", ((int(a), b, int(c)) for a, b, c in rows))
    db.commit()
    print(json.dumps({"seconds": time.perf_counter() - began}))


def ours(folder: Path) -> None:
    data = folder / "data"
    if not (data / "warehouses" / "marsh.db").exists():
        source = {"source": "bench", "type": "files", "path": str(folder / "in")}
        one_run.prepared(data, basket(source, {"type": "sqlite", "path": "marsh.db"}, "{table: wide, files: '*/part-*.csv'}"))
    seconds = one_run.run(data, "bench")
    from reedbasket.store import Store, runs

    latest = runs.latest(Store(data), feed="bench", limit=1)[0]
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb(), "read": latest["totals"]["read"]}))


if __name__ == "__main__":
    (ours if sys.argv[1] == "ours" else by_hand)(Path(sys.argv[2]))
