"""A warehouse's file in the hands of another program: waited for while that makes sense, then told; readers hold up nobody for long."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from reedbasket.core.errors import WarehouseBusy
from reedbasket.core.load.duckdb import connect as duckdb_connect
from reedbasket.core.load.sqlite import connect as sqlite_connect
from tests.support.warehouses import Loader, Place

_HOLD = """
import duckdb, sys
held = duckdb.connect(sys.argv[1], read_only=sys.argv[2] == "reading")
print("holding", flush=True)
sys.stdin.readline()
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
