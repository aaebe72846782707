"""Rows that go from one PostgreSQL into another as bytes: the same rows as in columns, or they do come in columns."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome
from tests.core.test_sql_sources import TYPES
from tests.support.dock import Dock
from tests.support.feeds import Heard, run_once
from tests.support.warehouses import Place


def loaded(dock: Dock, folder: Path, tables: str, run: int = 1, place: Place | None = None, **more: Any) -> tuple[Place, Heard]:
    place = place or Place("postgres", folder, dock.cluster)
    text = dock.basket(f"tables: {{{tables}}}", "zone: Europe/Paris").replace("on: sqlite\npath: marsh.db", place.as_yaml)
    result, heard = run_once(text, folder, run=run, **more)
    assert more or result.outcome is RunOutcome.SUCCEEDED, result.error
    return place, heard


def straight(heard: Heard) -> bool:
    """By the statement that was asked: it makes the warehouse's types."""
    return any('("id")::bigint' in request.url for request in heard.requests)


def test_the_same_rows_as_in_columns(dock: Dock, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    dock.do("create type kind as enum ('open'); create domain weight as numeric(8, 2); create type pair as (a int, b text)")
    # A bare numeric has as many digits as its values: it has to be looked at.
    kept = [(kind, value) for kind, value, _ in TYPES if kind != "numeric"]
    columns = ", ".join(f"c{n} {kind}" for n, (kind, _) in enumerate(kept) if kind != "money")
    values = ", ".join(value for kind, value in kept if kind != "money")
    dock.do(f"create table things (id int primary key, {columns})")
    dock.do(f"insert into things values (1, {values}); insert into things (id) values (2)")
    shaping = "things: {write: replace, rename: {c1: short}, leave_out: c2}"
    place, heard = loaded(dock, tmp_path, shaping)
    assert straight(heard) and heard.ledger[0].read == heard.ledger[0].inserted == 2
    with monkeypatch.context() as patch:
        patch.setattr("reedbasket.core.runs.execution.table_run.bring", lambda *_: None)
        other, heard = loaded(dock, tmp_path, shaping)
    assert not straight(heard)
    query = "select to_jsonb(t) - '_rb_load' - '_rb_at' from things t order by id"
    assert place.ask(query) == other.ask(query)
    kinds = "select attname::text, atttypid::regtype::text from pg_attribute where attrelid = 'things'::regclass and attnum > 0 order by 1"
    assert place.ask(kinds) == other.ask(kinds)


def test_what_has_to_be_looked_at_comes_in_columns(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table days (id int primary key, day date, n numeric(9, 2))")
    dock.do("insert into days values (1, '2026-03-01', 1.5), (2, 'infinity', 2)")
    place, heard = loaded(dock, tmp_path, "days: {write: replace}")
    assert "table.in_columns" in heard.codes() and [r.code for r in heard.rejected] == ["value.out_of_range"]
    assert place.ask("select id from days") == [(1,)] and heard.ledger[0].read == 2
    dock.do("delete from days where id = 2; alter table days add more int8; update days set more = 5")
    _, heard = loaded(dock, tmp_path, "days: {write: replace}", 2, place)
    assert straight(heard) and "drift.column" in heard.codes() and "table.in_columns" not in heard.codes()
    assert place.ask("select id, n::text, more from days") == [(1, "1.50", 5)]
    # A key of the feed's own may be null, or come twice: the load sees to that.
    dock.do(
        "create table twice (id int not null, v text); insert into twice select g % 5, 'x' || g from generate_series(1, 20) g"
    )
    _, heard = loaded(dock, tmp_path, "twice: {write: replace, key: id}")
    assert straight(heard) and (heard.ledger[0].inserted, heard.ledger[0].superseded) == (5, 15)
    windows = "{write: append, changes: {by: window, column: id, from: 2026-01-01}}"
    for shaping in ("{hash: v}", "{cast: {v: json}}", "{compute: {w: upper(v)}}", "{key: v}", windows):
        _, heard = loaded(dock, tmp_path, f"twice: {shaping}", heard=Heard())
        assert not straight(heard)


def test_what_is_kept_on_top_is_made_anew(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table parts (id int primary key); insert into parts values (1), (2)")
    table = "parts: {write: replace, clean: {as: table, name: counted, query: select count(*) as n from parts}}"
    place, heard = loaded(dock, tmp_path, table)
    assert straight(heard) and place.ask("select n from counted") == [(2,)]
    dock.do("insert into parts values (3)")
    _, heard = loaded(dock, tmp_path, table, 2, place)
    assert straight(heard) and place.ask("select n from counted") == [(3,)]


def test_stopped_and_cut_off_nothing_is_left(dock: Dock, tmp_path: Path) -> None:
    dock.do(
        "create table many (id int primary key, v text); insert into many select g, repeat('x', 900) from generate_series(1, 50000) g"
    )
    place, _ = loaded(dock, tmp_path, "many: {write: replace}")
    dock.do("delete from many where id > 40000")
    stop = threading.Event()

    class Stops(Heard):
        def progress(self, progress: Any) -> None:
            if progress.read:
                stop.set()

    _, heard = loaded(dock, tmp_path, "many: {write: replace}", 2, place, heard=Stops(), stop=stop)
    assert not heard.ledger and place.ask("select count(*) from many") == [(50_000,)]

    class Cuts(Heard):
        def progress(self, progress: Any) -> None:
            if progress.read:
                dock.do("select pg_terminate_backend(pid) from pg_stat_activity where query like 'copy (%to stdout%'")

    text = dock.basket("tables: {many: {write: replace}}", "zone: Europe/Paris").replace(
        "on: sqlite\npath: marsh.db", place.as_yaml
    )
    result, heard = run_once(text, tmp_path, run=3, heard=Cuts())
    assert result.error is not None and result.error["code"] == "source.unreachable", result.error
    left = "select tablename::text from pg_tables where tablename like '\\_rb\\_new%' and schemaname = current_schema"
    assert place.ask("select count(*) from many") == [(50_000,)] and place.ask(left) == []
    assert [line.read for line in loaded(dock, tmp_path, "many: {write: replace}", 4, place)[1].ledger] == [40_000]
