"""From one PostgreSQL into another."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

from reedbasket.core.runs import RunOutcome
from tests.support.dock import Dock
from tests.support.feeds import Heard, run_once
from tests.support.warehouses import Place


def loaded(dock: Dock, folder: Path, tables: str, run: int = 1, place: Place | None = None, **more: Any) -> tuple[Place, Heard]:
    place = place or Place("postgres", folder, dock.cluster)
    text = dock.basket(f"tables: [{tables}]", "time_zone: Europe/Paris").replace("type: sqlite\npath: marsh.db", place.as_yaml)
    result, heard = run_once(text, folder, run=run, **more)
    assert more or result.outcome is RunOutcome.SUCCEEDED, result.error
    return place, heard


def test_days_beyond_ours_columns_that_come_and_keys_that_repeat(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table days (id int primary key, day date, n numeric(9, 2))")
    dock.do("insert into days values (1, '2026-03-01', 1.5), (2, 'infinity', 2)")
    place, heard = loaded(dock, tmp_path, "{table: days, write: replace}")
    assert [r.record["id"] for r in heard.rejected] == [2] and heard.ledger[0].read == 2
    assert place.ask("select id, day::text, n::text from days") == [(1, "2026-03-01", "1.5")]
    dock.do("delete from days where id > 1; alter table days add more int8; update days set more = 5")
    _, heard = loaded(dock, tmp_path, "{table: days, write: replace}", 2, place)
    assert "drift.column" in heard.codes() and place.ask("select id, n::text, more from days") == [(1, "1.5", 5)]
    # A key of the feed's own may come twice: the load sees to that.
    dock.do(
        "create table twice (id int not null, v text); insert into twice select g % 5, 'x' || g from generate_series(1, 20) g"
    )
    _, heard = loaded(dock, tmp_path, "{table: twice, write: replace, primary_key: id}")
    assert (heard.ledger[0].inserted, heard.ledger[0].superseded) == (5, 15)


def test_what_is_kept_on_top_is_made_anew(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table parts (id int primary key); insert into parts values (1), (2)")
    table = "{table: parts, write: replace, derived: {table: counted, query: select count(*) as n from parts}}"
    place, _ = loaded(dock, tmp_path, table)
    assert place.ask("select n from counted") == [(2,)]
    dock.do("insert into parts values (3)")
    loaded(dock, tmp_path, table, 2, place)
    assert place.ask("select n from counted") == [(3,)]


def test_stopped_and_cut_off_nothing_is_left(dock: Dock, tmp_path: Path) -> None:
    dock.do(
        "create table many (id int primary key, v text); insert into many select g, repeat('x', 900) from generate_series(1, 50000) g"
    )
    place, _ = loaded(dock, tmp_path, "{table: many, write: replace}")
    dock.do("delete from many where id > 40000")
    stop = threading.Event()

    class Stops(Heard):
        def progress(self, progress: Any) -> None:
            if progress.read:
                stop.set()

    _, heard = loaded(dock, tmp_path, "{table: many, write: replace}", 2, place, heard=Stops(), stop=stop)
    assert not heard.ledger and place.ask("select count(*) from many") == [(50_000,)]

    class Cuts(Heard):
        def progress(self, progress: Any) -> None:
            if progress.read:
                dock.do("select pg_terminate_backend(pid) from pg_stat_activity where query like 'COPY (%TO STDOUT%'")

    text = dock.basket("tables: [{table: many, write: replace}]", "time_zone: Europe/Paris").replace(
        "type: sqlite\npath: marsh.db", place.as_yaml
    )
    result, heard = run_once(text, tmp_path, run=3, heard=Cuts())
    assert result.error is not None and result.error["code"] == "source.unreachable", result.error
    left = "select tablename::text from pg_tables where tablename like '\\_rb\\_new%' and schemaname = current_schema"
    assert place.ask("select count(*) from many") == [(50_000,)] and place.ask(left) == []
    assert [line.read for line in loaded(dock, tmp_path, "{table: many, write: replace}", 4, place)[1].ledger] == [40_000]
