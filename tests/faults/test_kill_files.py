"""Files, with the worker killed anywhere and the files changed under it: every file's rows exactly once, as it is in the end."""

from __future__ import annotations

import gzip
import json
import os
import random
import sqlite3
import threading
import time
from pathlib import Path

import pytest

from reedbasket.core.runs import RunOutcome
from tests.faults.test_kill import killed
from tests.support.feeds import run_once, table_rows

FEED = """
source: test
type: files
path: in
---
source: lake
type: files
path: lake
---
warehouse: marsh
type: sqlite
path: marsh.db
---
warehouse: third
type: sqlite
path: third.db
---
feed: test
from: test
into: {into}
rows_per_commit: {rows_per_commit}
changes: {{by: files, stable_for: 0s}}
tables:
  - {{table: counts, files: ["<place>-<part:d>.ndjson.gz", "<place>-<part:d>.csv"]}}
  - {{table: pictures, files: "*.bin", copy: {{to: lake}}}}
"""
FILES, ROWS, KILLS = 80, 120, 25


def put(folder: Path, number: int, version: int) -> None:
    """File number such, whose rows hold its version; some as CSV."""
    rows = [{"row": row, "version": version} for row in range(ROWS + version)]
    if number % 3:
        path = folder / f"osier-{number}.ndjson.gz"
        content = gzip.compress("".join(json.dumps(row) + "\n" for row in rows).encode())
    else:
        path = folder / f"tansy-{number}.csv"
        content = "".join(["row,version\n", *(f"{row['row']},{row['version']}\n" for row in rows)]).encode()
    part = path.with_suffix(".part")
    part.write_bytes(content)
    os.replace(part, path)


def check(folder: Path, versions: dict[int, int], warehouse: str) -> None:
    found: dict[int, list[tuple[int, int]]] = {}
    db = sqlite3.connect(folder / f"{warehouse}.db")
    for part, row, version in db.execute("select part, row, version from counts"):
        found.setdefault(part, []).append((row, version))
    assert {number: sorted(rows) for number, rows in found.items()} == {
        number: [(row, version) for row in range(ROWS + version)] for number, version in versions.items()
    }
    wrong = """select count(*) from _rb_file f where source_table = 'counts' and state = 'loaded'
               and "rows" <> (select count(*) from counts c where c._rb_file = f.number)"""
    assert db.execute(wrong).fetchone() == (0,)
    assert db.execute("select count(*) from counts where _rb_file not in (select number from _rb_file)").fetchone() == (0,)
    db.close()


@pytest.mark.parametrize("into", ["marsh", "[marsh, third]"])
def test_killed_at_random_points_every_file_is_there_once(tmp_path: Path, into: str) -> None:
    rng, versions = random.Random(6), dict.fromkeys(range(FILES), 1)
    (tmp_path / "in").mkdir()
    for number in versions:
        put(tmp_path / "in", number, 1)
    for number in range(10):
        (tmp_path / f"in/{number}.bin").write_bytes(os.urandom(400_000))
    text = FEED.format(rows_per_commit=120, into=into)
    going = 0
    for attempt in range(KILLS):
        going += killed(text, tmp_path, attempt + 1, rng.uniform(0.02, 0.3))
        for number in rng.sample(range(FILES), 60):
            versions[number] += 1
            put(tmp_path / "in", number, versions[number])
        assert not list((tmp_path / "lake").glob("*.bin")) or all(
            path.stat().st_size == 400_000 for path in (tmp_path / "lake").glob("*.bin")
        )
    assert going >= KILLS // 3
    result, _ = run_once(text, tmp_path, run=99)
    assert result.outcome == RunOutcome.SUCCEEDED, result.error
    for warehouse in ("marsh", "third") if "third" in into else ("marsh",):
        check(tmp_path, versions, warehouse)
    assert {p.name: p.read_bytes() for p in (tmp_path / "in").glob("*.bin")} == {
        p.name: p.read_bytes() for p in (tmp_path / "lake").glob("*.bin")
    }
    assert not list((tmp_path / "lake").glob("*.rb-part"))
    _, heard = run_once(text, tmp_path, run=100)
    assert heard.ledger == []


def test_a_file_that_is_written_over_while_it_is_read(tmp_path: Path) -> None:
    """In place, by a writer that never stops: a run takes a whole version of it, or none."""
    (tmp_path / "in").mkdir()
    path, stop, rows = tmp_path / "in/osier-1.csv", threading.Event(), 60_000
    text = FEED.format(rows_per_commit=100_000, into="marsh")

    def write(version: int) -> None:
        with open(path, "w") as file:
            file.write("row,version\n")
            for row in range(rows):
                file.write(f"{row},{version}\n")

    def keep_writing() -> None:
        version = 1
        while not stop.is_set():
            version += 1
            write(version)

    write(1)
    writer = threading.Thread(target=keep_writing, daemon=True)
    writer.start()
    try:
        for attempt in range(6):
            result, _ = run_once(text, tmp_path, run=attempt + 1)
            # A writer that stands still, as on a busy machine, in the middle of a line leaves a damaged file, and between two lines one
            # that looks whole, whose rows the next run would have to remove: both are refused, and nothing of them is taken.
            assert result.error is None or result.error["code"] in {"file.damaged", "run.too_many_removed"}, result.error
            time.sleep(0.05)
    finally:
        stop.set()
        writer.join()
    result, _ = run_once(text, tmp_path, run=50)
    assert result.outcome == RunOutcome.SUCCEEDED, result.error
    found = table_rows(tmp_path, "counts")
    assert len({row["version"] for row in found}) == 1 and sorted(row["row"] for row in found) == list(range(rows))
