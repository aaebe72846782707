"""Rows on their way into PostgreSQL: in order, at once where something goes wrong, and without hiding what did."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pytest

from reedbasket.contracts.place import columns_of
from reedbasket.core.runs import RunOutcome
from reedbasket.core.warehouses.postgres import copying
from reedbasket.core.warehouses.postgres.copying import Sending
from tests.support.dock import Dock
from tests.support.feeds import Heard, run_once
from tests.support.warehouses import Place


def rows(first: int, many: int, name: str = "n") -> pa.Table:
    return pa.table({name: pa.array(range(first, first + many))})


class Target:
    """Keeps what it is sent; fails at a row, where one is named."""

    def __init__(self, fails_at: int | None = None) -> None:
        self.got: list[tuple[str, list[int]]] = []
        self._fails_at = fails_at

    def copy(self, table: str, sent: Any) -> None:
        held: list[int] = []
        self.got.append((table, held))
        for batch in sent if isinstance(sent, pa.RecordBatchReader) else sent.to_batches():
            held += batch.column(0).to_pylist()
            if self._fails_at is not None and held[-1] >= self._fails_at:
                raise psycopg.errors.DiskFull("no space")


def test_a_table_goes_in_one_copy_until_another_comes_between(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(copying, "_ROWS_AT_ONCE", 10)
    target = Target()
    sending = Sending(target.copy)
    for first in range(0, 40, 4):
        sending.add("a", rows(first, 4))
    sending.add("a", rows(40, 12, "other"))
    sending.add("b", rows(0, 3))
    sending.flush()
    sending.add("a", rows(52, 1))
    sending.flush()
    sending.close()
    assert target.got == [("a", list(range(40))), ("a", list(range(40, 52))), ("b", [0, 1, 2]), ("a", [52])]


def test_wide_rows_do_not_wait_until_they_are_many() -> None:
    target = Target()
    sending = Sending(target.copy)
    for _ in range(6):
        sending.add("a", pa.table({"n": pa.array([1]), "text": ["x" * (5 * 1024 * 1024)]}))
        held = sum(table.nbytes for tables in sending._waiting.values() for table in tables)
        assert held < 9 * 1024 * 1024
    sending.flush()
    assert sum(len(found) for _, found in target.got) == 6
    sending.close()


def test_a_copy_that_fails_is_told_at_once_and_only_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(copying, "_ROWS_AT_ONCE", 10)
    sending = Sending(Target(fails_at=25).copy)
    with pytest.raises(psycopg.errors.DiskFull):
        for first in range(0, 10_000, 10):
            sending.add("a", rows(first, 10))
    sending.flush()
    sending.close()
    assert not [thread for thread in threading.enumerate() if thread.name.startswith("send to postgres")]


def test_a_server_that_ends_the_copy_leaves_nothing_and_the_next_run_brings_all(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table many (id int primary key, note text)")
    dock.do("insert into many select g, repeat('x', 400) from generate_series(1, 150000) g")
    place = Place("postgres", tmp_path, dock.cluster)
    feed = "tables: [{table: many, write: replace, compute: {twice: id * 2}}]"
    text = dock.basket(feed).replace("type: sqlite\npath: marsh.db", place.as_yaml)

    class Ends(Heard):
        def progress(self, progress: Any) -> None:
            if progress.staged > 60_000:
                dock.do("select pg_terminate_backend(pid) from pg_stat_activity where query like 'COPY%FROM STDIN%'")

    result, _ = run_once(text, tmp_path, heard=Ends())
    assert result.error is not None and result.error["code"] == "warehouse.connection_lost", result.error
    # Nobody is left to drop what it was building: the next run does.
    left = "select count(*)::int from pg_tables where schemaname = current_schema and tablename ~ '^_rb_new'"
    assert (columns_of(place, "many"), place.ask(left)) == ({}, [(1,)])
    result, heard = run_once(text, tmp_path, run=2)
    assert place.ask(left) == [(0,)]
    assert result.outcome is RunOutcome.SUCCEEDED and [line.inserted for line in heard.ledger] == [150_000]
    assert place.ask("select count(*), count(distinct id), sum(twice) from many") == [(150_000, 150_000, 150_000 * 150_001)]
