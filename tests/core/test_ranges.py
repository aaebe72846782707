"""Large tables in ranges: several at once, cut in their midst and gone on with, and what changed meanwhile."""

from __future__ import annotations

import sqlite3
import threading
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pytest

from reedbasket.core.errors import SourceError
from reedbasket.core.records.bounded_queue import MOST_WAITING_BYTES
from reedbasket.core.runs import RunOutcome, verify_feed
from reedbasket.core.sources.chunk import Chunk
from reedbasket.core.sources.parallel_reader import UnorderedParallelReader
from reedbasket.core.warehouses import LedgerLine
from tests.core.test_mysql import MARSH, DatabaseFixture
from tests.support.dock import Dock
from tests.support.feeds import Heard, order_for, run_context_for, run_once

ROWS = 5000
CASES = [("postgres", by) for by in ("full", "cursor, column: at", "row_version", "cdc")]
CASES += [("mysql", "cdc"), ("mysql", "cursor, column: at"), ("sqlite", "cursor, column: at"), ("sqlite", "full")]


class StopsAfter(Heard):
    """Cancels the run after so many loads."""

    def __init__(self, loads: int) -> None:
        super().__init__()
        self.stop, self._loads = threading.Event(), loads

    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        super().loaded(lines)
        if len(self.ledger) == self._loads:
            self.stop.set()


def made(engine: str, folder: Path, request: pytest.FixtureRequest) -> tuple[Callable[..., Any], Callable[..., str]]:
    """(runs a statement, makes a basket of a feed's lines)."""
    if engine == "sqlite":
        db = sqlite3.connect(folder / "yard.db", isolation_level=None, timeout=120)
        db.execute("create table orders (id integer primary key, code text not null unique, at text, v int)")
        numbers = f"with recursive g (n) as (select 1 union all select n + 1 from g where n < {ROWS})"
        db.execute(f"insert into orders {numbers} select n, 'C' || n, datetime(1767225600 + n, 'unixepoch'), 0 from g")
        return db.execute, lambda feed: f"source: test\ntype: sqlite\npath: yard.db\n---\n{MARSH}{feed}"
    if engine == "mysql":
        yard = DatabaseFixture(request.getfixturevalue("maria"))
        yard.do("create table orders (id int primary key, code varchar(40) not null unique, at timestamp null, v int)")
        at = "timestamp '2026-01-01 00:00:00' + interval seq second"
        yard.do(f"insert into orders select seq, concat('C', md5(seq)), {at}, 0 from seq_1_to_{ROWS}")
        return yard.do, yard.basket
    dock = Dock(request.getfixturevalue("cluster"))
    dock.do("create table orders (id int primary key, code text not null unique, at timestamptz, v int)")
    at = "timestamptz '2026-01-01' + g * interval '1 s'"
    dock.do(f"insert into orders select g, 'C' || md5(g::text), {at}, 0 from generate_series(1, {ROWS}) g")
    dock.do("create publication reed_test for table orders")
    dock.do("select pg_drop_replication_slot(slot_name) from pg_replication_slots")
    return dock.do, dock.basket


@pytest.mark.parametrize("of", ["id", "code", "at"])
@pytest.mark.parametrize(("engine", "by"), CASES)
def test_cut_in_the_midst_of_ranges(tmp_path: Path, engine: str, by: str, of: str, request: pytest.FixtureRequest) -> None:
    do, basket = made(engine, tmp_path, request)
    if of == "at":
        if (engine, by) != ("postgres", "cursor, column: at"):
            pytest.skip("once is enough")
        do("alter table orders alter at set not null")
    ranges = f"{{column: {of}, parts: 10, concurrency: 3}}"
    text = basket(
        f"rows_per_commit: 700\ntables: [{{table: orders, write: upsert, changes: {{by: {by}}}, parallel_read: {ranges}}}]\n"
    )
    heard = StopsAfter(3)
    result, _ = run_once(text, tmp_path, heard=heard, stop=heard.stop)
    taken = sum(line.read for line in heard.ledger)
    assert result.outcome is RunOutcome.CANCELLED and 2000 < taken < 4900
    assert (heard.ledger[-1].cursor_to or "").startswith(f"{of} below ")
    # One changes among those that were read, one among those that were not, one goes that was not read yet.
    do("update orders set v = 1, at = '2026-02-01 00:00:00' where id in (1, 4999)")
    if by == "cdc":
        do("delete from orders where id = 4990")
    result, heard2 = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert sum(line.read for line in heard2.ledger) <= ROWS - taken + 1
    run_once(text, tmp_path, run=3)
    order = order_for(text)
    (found,) = verify_feed(order, run_context_for(order, tmp_path), deep=True, only=None)
    assert (found.only_source, found.differing) == (0, 0) and found.only_warehouse == 0, found
    _, heard4 = run_once(text, tmp_path, run=4)
    read = sum(line.read for line in heard4.ledger)
    assert read >= 4990 if by == "full" else read <= 3


def test_appended_rows_of_ranges_come_once(tmp_path: Path, request: pytest.FixtureRequest) -> None:
    _, basket = made("postgres", tmp_path, request)
    table = "{table: orders, write: append, changes: {by: full}, parallel_read: {parts: 10, concurrency: 3}}"
    text, heard = basket(f"rows_per_commit: 700\ntables: [{table}]\n"), StopsAfter(2)
    result, _ = run_once(text, tmp_path, heard=heard, stop=heard.stop)
    assert result.outcome is RunOutcome.CANCELLED
    result, _ = run_once(text, tmp_path, run=2)
    with closing(sqlite3.connect(tmp_path / "marsh.db")) as db:
        assert db.execute("select count(*), count(distinct id) from orders").fetchone() == (ROWS, ROWS)


@pytest.mark.parametrize("of", ["id", "at"])
def test_a_time_without_end_is_no_bound(tmp_path: Path, request: pytest.FixtureRequest, of: str) -> None:
    do, basket = made("postgres", tmp_path, request)
    do("alter table orders alter at set not null; update orders set at = 'infinity' where id = 7")
    do("update orders set at = '-infinity' where id = 8; update orders set at = '200000-01-01' where id = 9")
    changes = "{by: cursor, column: at}"
    text = basket(
        f"tables: [{{table: orders, write: upsert, changes: {changes}, parallel_read: {{column: {of}, parts: 5}}}}]\n"
    )
    result, heard = run_once(text, tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert (sum(line.inserted for line in heard.ledger), len(heard.rejected)) == (ROWS - 3, 3)
    do("update orders set v = 1, at = '2026-02-01' where id = 10")
    result, heard = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED and sum(line.updated for line in heard.ledger) == 1


def read_at_once(passes: list[Iterator[Chunk]], most: int) -> Iterable[Chunk]:
    return UnorderedParallelReader(passes, most, "test", "all")


def test_a_range_that_waits_holds_up_no_other() -> None:
    going, most = threading.Event(), MOST_WAITING_BYTES // 4

    def waiting() -> Iterator[Chunk]:
        assert going.wait(20)
        yield Chunk([{"of": "first"}], 1, [])

    def quick(name: str) -> Iterator[Chunk]:
        for _ in range(12):  # more than may wait for somebody to take it
            yield Chunk([{"of": name}], most, [])

    marks, counted = [], Counter[str]()
    for chunk in read_at_once([waiting(), quick("second"), quick("third")], 2):
        counted.update(record["of"] for record in chunk.records)
        marks += [chunk.mark] if chunk.mark else []
        if counted["second"] + counted["third"] == 24 and not going.is_set():
            assert not marks  # the first is not through
            going.set()
    assert counted == {"first": 1, "second": 12, "third": 12} and marks == ["all"]

    def failing() -> Iterator[Chunk]:
        yield Chunk([], 0, [])
        raise SourceError("reading", "it", found="gone")

    with pytest.raises(SourceError, match="gone"):
        list(read_at_once([quick("first"), failing()], 2))


def test_ranges_of_a_complete_read_are_one_load_in_one_snapshot(tmp_path: Path, request: pytest.FixtureRequest) -> None:
    do, basket = made("postgres", tmp_path, request)

    class Writes(Heard):
        def progress(self, progress: Any) -> None:
            if progress.staged and not self.phases:
                self.phases.append(("", "seen"))
                do("delete from orders where id > 10; insert into orders values (9999, 'new', now(), 1)")
                do("update orders set v = 2 where id < 3")  # it lies in another place now
                do("set lock_timeout = '50 ms'")
                with pytest.raises(psycopg.errors.LockNotAvailable):
                    do("truncate orders")

    table = "{table: orders, write: mirror, source_filter: id > 0, parallel_read: {parts: 8, concurrency: 4}}"
    text = basket(f"rows_per_commit: 700\ntables: [{table}]\n")
    result, heard = run_once(text, tmp_path, heard=Writes())
    assert result.outcome is RunOutcome.SUCCEEDED and [line.read for line in heard.ledger] == [ROWS]
    assert len(heard.requests) == 8 and all('"ctid" ' in seen.url for seen in heard.requests)
    doubted, heard = run_once(text, tmp_path, run=2)
    assert doubted.error is not None and (doubted.error["code"], heard.ledger) == ("run.too_many_removed", [])
    _, heard = run_once(text, tmp_path, run=3, accept=True)
    assert [(line.read, line.removed) for line in heard.ledger] == [(11, ROWS - 10)]
    # By their places, ranges need no key.
    do("create table taps as select g as n, case when g % 2 = 0 then 'even' end as word from generate_series(1, 30000) g")
    do("delete from taps where n % 3 = 0 or n between 7000 and 15000")
    text = basket("tables: [{table: taps, source_filter: n > 0, parallel_read: {parts: 8, concurrency: 4}}]\n")
    result, heard = run_once(text, tmp_path / "keyless")
    assert result.outcome is RunOutcome.SUCCEEDED and len(heard.requests) == 8, result.error
    with closing(sqlite3.connect(tmp_path / "keyless" / "marsh.db")) as db:
        found = db.execute("select n, word from taps order by n").fetchall()
    assert found == do("select n, word from taps order by n").fetchall()
    result, _ = run_once(basket("tables: [{table: orders, parallel_read: {column: v}}]"), tmp_path / "else")
    assert result.error is not None and result.error["code"] == "definition.bad_parallel_read"


@pytest.mark.parametrize("ranges", ["", ", parallel_read: {parts: 8}"])
@pytest.mark.parametrize(
    "rewritten",
    [
        "truncate orders; insert into orders values (1, 'new', now(), 1)",
        "drop publication reed_test; alter table orders set unlogged",
    ],
)
def test_a_table_rewritten_behind_the_snapshot_is_not_taken_for_empty(
    tmp_path: Path, request: pytest.FixtureRequest, ranges: str, rewritten: str
) -> None:
    do, basket = made("postgres", tmp_path, request)

    class Rewrites(Heard):
        def progress(self, progress: Any) -> None:
            if (progress.table, progress.phase) == ("orders", "reading") and ("orders", "reading") not in self.phases:
                do(rewritten)
            super().progress(progress)

    do("create table other (id int primary key)")
    text = basket(f"tables: [{{table: orders, write: mirror{ranges}}}, {{table: other, write: mirror}}]\n")
    assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    result, heard = run_once(text, tmp_path, run=2, heard=Rewrites())
    assert result.error is not None and (result.error["code"], result.error["retryable"]) == ("source.file_replaced", True)
    assert [(t.table, t.phase) for t in result.tables] == [("orders", "failed"), ("other", "done")]
    assert "orders" not in [line.table for line in heard.ledger]
    result, heard = run_once(text, tmp_path, run=3, accept=True)
    left = ROWS if "alter" in rewritten else 1
    assert [(line.read, line.removed) for line in heard.ledger if line.table == "orders"] == [(left, ROWS - left)]
