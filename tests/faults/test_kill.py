"""Kill the worker anywhere; run again; the warehouse is as if nothing had happened."""

from __future__ import annotations

import multiprocessing
import random
import shutil
import sqlite3
import time
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome
from tests.faults import loads
from tests.support.feeds import basket_text, run_once, table_rows
from tests.support.source import Changing, serving

POINTS = 8
TABLES = ("things", "things_kids")
processes = multiprocessing.get_context("forkserver")
processes.set_forkserver_preload(["tests.faults.loads"])


def world(size: int, version: int) -> list[dict[str, Any]]:
    """`size` records; in version 2 every third is changed, some children with it, and a tenth is new."""
    records = []
    for number in range(size + (size // 10 if version == 2 else 0)):
        changed = version == 2 and (number % 3 == 0 or number >= size)
        minute = number // 50 + (200 if changed else 0)
        kids = [{"seat": seat, "price": 1.5 * seat} for seat in range((number + (1 if changed else 0)) % 4)]
        records.append(
            {
                "id": f"T{number:05d}",
                "v": version if changed else 1,
                # Fifty records share each instant, so that loads and pages are cut between equal values.
                "updated_at": f"2026-03-01T{minute // 60:02d}:{minute % 60:02d}:00Z",
                "kids": kids,
            }
        )
    return records


def contents(folder: Path) -> dict[str, list[dict[str, Any]]]:
    return {table: table_rows(folder, table) for table in TABLES}


def check_books(folder: Path) -> None:
    """Every row points at a ledger line of its table, every line adds up, and the file is sound."""
    db = sqlite3.connect(folder / "marsh.db")
    for table in TABLES:
        orphans = f"""select count(*) from {table} t where not exists
                      (select 1 from _rb_ledger l where l.load = t._rb_ledger_line and l."table" = '{table}')"""
        assert db.execute(orphans).fetchone() == (0,)
    wrong = "select count(*) from _rb_ledger where read <> inserted + updated + deleted + unchanged + superseded + rejected"
    assert db.execute(wrong).fetchone() == (0,)
    assert db.execute("pragma integrity_check").fetchone() == ("ok",)
    assert not db.execute("select name from sqlite_master where name like '%beside%'").fetchall()
    db.close()


def killed(text: str, folder: Path, number: int, after: float) -> bool:
    """Start a run and kill it after so many seconds: whether it was still going."""
    process = processes.Process(target=loads.run, args=(text, str(folder), number))
    process.start()
    process.join(after)
    alive = process.is_alive()
    process.kill()
    process.join()
    return alive


@pytest.mark.parametrize(
    ("write", "by", "rows_per_commit"),
    [("upsert", "cursor", 400), ("replace", "full", 100_000)],
    ids=["upsert", "replace"],
)
def test_killed_at_random_points(tmp_path: Path, write: str, by: str, rows_per_commit: int) -> None:
    rng = random.Random(write)
    source_list = Changing(world(2000, 1), page=200)
    with serving(source_list) as source:
        text = basket_text(source.url, write=write, by=by, rows_per_commit=rows_per_commit)
        first = tmp_path / "first"
        run_once(text, first)
        source_list.records = world(2000, 2)

        whole = tmp_path / "whole"
        lengths = []
        for _ in range(3):  # the first one also starts the fork server, and a machine may stall: the shortest is a run's length
            shutil.rmtree(whole, ignore_errors=True)
            shutil.copytree(first, whole)
            began = time.monotonic()
            assert not killed(text, whole, 2, 60)
            lengths.append(time.monotonic() - began)
        length = min(lengths)
        expected = contents(whole)
        assert {r["v"] for r in expected["things"]} == {1, 2}
        assert len(expected["things"]) == 2200

        cut = 0
        for point in range(POINTS):
            folder = tmp_path / "cut"
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(first, folder)
            alive = killed(text, folder, 2, rng.uniform(0.0, length))
            cut += alive
            # A machine that has become quicker since is followed, so that kills keep falling within the run.
            length *= 1.0 if alive else 0.9
            if (folder / "marsh.db").exists() and write == "replace":
                # Whatever moment it was: the old table whole, or the new one whole.
                assert len(table_rows(folder, "things")) in (2000, 2200)
            result, heard = run_once(text, folder, run=3)
            assert result.outcome is RunOutcome.SUCCEEDED, (point, result.error)
            assert contents(folder) == expected, f"point {point}"
            check_books(folder)
            assert all(line.reconciles for line in heard.ledger)
        assert cut > POINTS // 2


def test_killed_again_and_again_in_a_first_load(tmp_path: Path) -> None:
    """A long first load that is cut every time still comes to its end: each try goes on from the last commit."""
    rng = random.Random(3)
    with serving(Changing(world(3000, 1), page=100)) as source:
        text = basket_text(source.url, rows_per_commit=300)
        whole = tmp_path / "whole"
        began = time.monotonic()
        killed(text, whole, 1, 60)
        length = time.monotonic() - began
        for number in range(1, 9):
            killed(text, tmp_path / "cut", number, rng.uniform(length * 0.2, length * 0.7))
        result, _ = run_once(text, tmp_path / "cut", run=20)
    assert result.outcome is RunOutcome.SUCCEEDED
    assert contents(tmp_path / "cut") == contents(whole)
    check_books(tmp_path / "cut")
