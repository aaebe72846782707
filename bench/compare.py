"""compare: a source of 1,000,000 records, of which 1,800 differ (600 new, 600 changed, 600 gone), brought into SQLite.

Both sides parse the same pages of JSON. Ours compares each record with what was loaded and writes what differs; the baseline
stages all, upserts all, and deletes what was not there, by hand.
"""

from __future__ import annotations

import json
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson

from reedbasket.core.runs.execution.compare import Comparer
from reedbasket.core.shaping import Shaper, TableShape
from reedbasket.core.shaping.selection import key_batch
from reedbasket.core.warehouses import LoadTarget, Position
from reedbasket.core.warehouses.sqlite.warehouse import SqliteWarehouse

from . import warehouses as w
from .measure import child, in_turn, own_peak_mb, result

WHAT = "1,000,000 records of which 1,800 differ, found and applied by `compare`"
BOUND = "at most 0.45 of fetching all and merging all; worker under 300 MB"
PAGE = 2_000
FIELDS = ("id", "code", "name", "state", "weight", "price", "turn", "updated_at")


def record(number: int, turn: int) -> dict[str, Any]:
    return {
        "id": number,
        "code": f"R-{number:08d}",
        "name": f"record {number} as of {turn}",
        "state": w.STATES[number % 4],
        "weight": number * 0.5,
        "price": number % 1000 * 1.25,
        "turn": turn,
        "updated_at": "2026-01-01T00:00:00Z",
    }


def write_pages(folder: Path, size: int, turn: int) -> None:
    """One JSON array a line, so that reading takes memory for a page. A turn changes, adds and drops 600 each."""
    differing = 600 * size // 1_000_000
    step = size // differing
    with open(folder / f"{turn}.pages", "wb") as file:
        page = []
        for number in range(size + turn * differing):
            if turn and number < size and number % step == 7:
                if number // step % 2 == turn % 2:
                    continue  # gone this time, there again the next
                page.append(record(number, turn))
            else:
                page.append(record(number, 0))
            if len(page) == PAGE:
                file.write(orjson.dumps(page) + b"\n")
                page = []
        file.write(orjson.dumps(page) + b"\n")


def pages(path: str) -> Any:
    with open(path, "rb") as file:
        for line in file:
            yield orjson.loads(line)


def run(quick: bool) -> dict[str, Any]:
    size, rounds = (200_000, 3) if quick else (1_000_000, 3)
    peaks: list[float] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for turn in range(rounds + 2):
            write_pages(folder, size, turn)
        for which in ("ours", "hand"):
            child("bench.compare", which, f"{name}/{which}.db", f"{name}/0.pages")
        turns = {"ours": 0, "hand": 0}

        def once(which: str) -> float:
            turns[which] += 1
            done = child("bench.compare", which, f"{name}/{which}.db", f"{name}/{turns[which]}.pages")
            if which == "ours":
                peaks.append(done["rss_mb"])
            return float(done["seconds"])

        ours, hand = in_turn(rounds, lambda: once("ours"), lambda: once("hand"))
    return result(ours, hand, max(peaks))


def by_compare(path: str, source: str) -> None:
    """As TableStaging does it."""
    warehouse = SqliteWarehouse(Path(path))
    state = warehouse.state("bench", "records")
    comparer = Comparer(["id"], warehouse.hashes("bench", "records", state.version) if state else None)
    shaper = Shaper(state.structure if state else TableShape("records"), ["id"], "key", expected=state is not None)
    load = warehouse.begin(LoadTarget(1, "bench", "bench", "records", "records", "mirror", ["id"], "key"), state)
    unchanged, owner = 0, 0
    differing: list[dict[str, Any]] = []

    def stage() -> None:
        nonlocal owner
        shaped = shaper.shape(differing, owner)
        owner += shaped.records
        load.stage(shaped.family, shaped.batches)
        differing.clear()

    for page in pages(source):
        compared = comparer.take(page)
        unchanged += compared.unchanged
        differing += compared.records
        if len(differing) >= PAGE:
            stage()
    if differing:
        stage()
    if comparer.compared:
        gone = comparer.missing_keys(lambda: warehouse.keys("records", ["id"]))
        load.delete_keys(key_batch(shaper.family, gone))
    now = datetime.now(UTC)
    position = Position(None, None, 0, 0, 0, now, unchanged=unchanged, hashes=comparer.hashes_to_keep())
    load.commit(shaper.family, shaper.structure.to_data(), position, now)
    load.close()
    warehouse.close()


def by_hand(path: str, source: str) -> None:
    db = w.sqlite_by_hand(Path(path))
    db.execute("begin immediate")
    made = "(id integer primary key, code text, name text, state text, weight real, price real, turn integer, updated_at text)"
    db.execute(f"create table if not exists records {made}")
    db.execute(f"create temp table stage {made}")
    values = f"values ({', '.join(f':{f}' for f in FIELDS)})"
    for page in pages(source):
        db.executemany(f"insert into stage {values}", page)
    sets = ", ".join(f"{f} = excluded.{f}" for f in FIELDS[1:])
    db.execute(f"insert into records select * from stage where true on conflict (id) do update set {sets}")
    db.execute("delete from records where id not in (select id from stage)")
    db.execute("commit")
    db.close()


def main(which: str, path: str, source: str) -> None:
    seconds = w.timed(lambda: (by_compare if which == "ours" else by_hand)(path, source))
    db = w.sqlite_by_hand(Path(path))
    count = db.execute("select count(*) from records").fetchone()[0]
    assert count == sum(len(page) for page in pages(source)), count
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(*sys.argv[1:])
