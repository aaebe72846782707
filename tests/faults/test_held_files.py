"""A warehouse's file in the hands of another program: waited for while that makes sense, then told; readers hold up nobody for long."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from reedbasket.contracts.place import Loader
from reedbasket.core.errors import WarehouseBusy
from reedbasket.core.runs import RunOutcome
from reedbasket.core.warehouses.duckdb import connect as duckdb_connect
from reedbasket.core.warehouses.sqlite import connect as sqlite_connect
from tests.support.dock import MARSH
from tests.support.feeds import run_once
from tests.support.warehouses import Place

_HOLD = """
import duckdb, sys
held = duckdb.connect(sys.argv[1], read_only=sys.argv[2] == "reading")
print("holding", flush=True)
sys.stdin.readline()
"""

# Writes more than fits in its memory, so that some of it is in the file, and is gone before it commits.
_KILLED = """
import os, sqlite3, sys
file = sqlite3.connect(sys.argv[1], isolation_level=None)
file.execute("pragma cache_size = 2")
file.execute("create table pairs (id integer primary key, word text)")
file.execute("insert into pairs values (1, 'whole')")
file.execute("begin")
file.executemany("insert into pairs values (?, ?)", [(n, "half" * 300) for n in range(2, 300)])
os.kill(os.getpid(), 9)
"""


@contextmanager
def held(path: Path, how: str) -> Iterator[subprocess.Popen[str]]:
    """A DuckDB file open in another process, until a line is written to it."""
    program = subprocess.Popen(
        [sys.executable, "-c", _HOLD, str(path), how], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert program.stdout is not None
    assert program.stdout.readline() == "holding\n"
    try:
        yield program
    finally:
        program.kill()
        program.wait()


@pytest.mark.parametrize("how", ["reading", "writing"])
def test_a_duckdb_file_that_is_open_elsewhere(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, how: str) -> None:
    place = Place("duckdb", tmp_path, None)
    loader = Loader(place)
    loader.load([{"id": 1}])
    with held(tmp_path / "marsh.duckdb", how) as program:
        # Only looking up the state and the commit need the file, and they wait.
        giving_back = threading.Timer(0.5, lambda: program.communicate("enough\n"))
        giving_back.start()
        assert loader.load([{"id": 2}])[0].inserted == 1
        giving_back.join()
    with held(tmp_path / "marsh.duckdb", how):
        monkeypatch.setattr(duckdb_connect, "BUSY_SECONDS", 0.3)
        monkeypatch.setattr(duckdb_connect, "READ_SECONDS", 0.3)
        with pytest.raises(WarehouseBusy) as caught:
            loader.load([{"id": 3}])
        assert caught.value.retryable
    assert loader.load([{"id": 3}])[0].inserted == 1
    assert place.ask("select count(*) from things") == [(3,)]


def test_a_sqlite_file_that_another_program_writes_or_reads(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sqlite_connect, "BUSY_SECONDS", 0.3)
    place = Place("sqlite", tmp_path, None)
    loader = Loader(place)
    loader.load([{"id": 1}])
    other = sqlite3.connect(tmp_path / "marsh.sqlite", isolation_level=None)
    other.execute("begin immediate")
    with pytest.raises(WarehouseBusy) as caught:
        loader.load([{"id": 2}])
    assert caught.value.retryable
    other.execute("rollback")
    # A reader in the middle of its transaction goes on seeing what it saw, and the load does not wait for it.
    other.execute("begin")
    assert other.execute("select count(*) from things").fetchone() == (1,)
    assert loader.load([{"id": 2}])[0].inserted == 1
    assert other.execute("select count(*) from things").fetchone() == (1,)
    other.execute("commit")
    assert other.execute("select count(*) from things").fetchone() == (2,)
    other.close()


def test_a_sqlite_file_that_another_program_was_killed_writing_to(tmp_path: Path) -> None:
    for name in ("marsh.db", "yard.db"):
        subprocess.run([sys.executable, "-c", _KILLED, str(tmp_path / name)], check=False)
        assert (tmp_path / f"{name}-journal").stat().st_size
    text = f"source: test\ntype: sqlite\npath: yard.db\n---\n{MARSH}tables: [{{table: pairs, as: mine}}]\n"
    # What is only read is not fixed, and not changed.
    before = (tmp_path / "yard.db").read_bytes()
    result, _ = run_once(text, tmp_path)
    assert result.error is not None and "yard.db-journal" in result.error["found"] and "open it once" in result.error["fix"]
    assert (tmp_path / "yard.db").read_bytes() == before
    with closing(sqlite3.connect(tmp_path / "yard.db")) as owner:
        assert owner.execute("select * from pairs").fetchall() == [(1, "whole")]
    result, heard = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED and heard.ledger[0].inserted == 1, result.error
    with closing(sqlite3.connect(tmp_path / "marsh.db")) as owner:
        assert [owner.execute(f"select id, word from {table}").fetchall() for table in ("mine", "pairs")] == [
            [(1, "whole")]
        ] * 2
