"""PostgreSQL's log of changes, followed into the warehouses: what is there afterwards is what a SELECT would bring."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome, verify_feed
from reedbasket.core.runs.inspection.database_look import check_database
from reedbasket.core.runs.inspection.setup_sql import setup_sql
from tests.core.test_sql_sources import TYPES
from tests.support.dock import Dock
from tests.support.feeds import Heard, order_for, run_context_for, run_once, table_rows
from tests.support.warehouses import ENGINES, Place, server_for

LOG = "changes: {by: cdc}\n"


def run(text: str, folder: Path, number: int, **more: Any) -> Heard:
    result, heard = run_once(text, folder, run=number, **more)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    return heard


def require_same(text: str, folder: Path) -> None:
    order = order_for(text)
    for table in verify_feed(order, run_context_for(order, folder), deep=True, only=None):
        assert table.same, (table.samples, table.error)


def test_every_type_comes_from_the_log_as_from_a_select(dock: Dock, tmp_path: Path) -> None:
    dock.do("create type kind as enum ('open'); create domain weight as numeric(8, 2); create type pair as (a int, b text)")
    more = [("char(5)", "'ab'"), ("timestamptz", "'infinity'"), ("timestamp", "'0044-03-15 BC'"), ("pair[]", "array[row(2, 'q')::pair]"),
            ("name", "'n'"), ('"char"', "'c'"), ("float4", "'NaN'"), ("numeric", "'NaN'")]  # fmt: skip
    values = [(kind, value) for kind, value, _ in TYPES] + more
    columns = ", ".join(f"c{n} {kind}" for n, (kind, _) in enumerate(values))
    dock.do(f"create table things (id int primary key, {columns}); create publication reed_test for table things")
    cast = ", ".join(f"c{n}: text" for n, (_, value) in enumerate(values) if value in ("'infinity'", "'0044-03-15 BC'"))
    text = dock.basket(LOG + f"tables: [{{table: things, cast: {{{cast}}}}}]", "time_zone: Europe/Paris")
    dock.do(f"insert into things values (1, {', '.join(value for _, value in values)})")
    run(text, tmp_path, 1)
    dock.do(f"insert into things values (2, {', '.join(value for _, value in values)}); insert into things (id) values (3)")
    heard = run(text, tmp_path, 2)
    assert [(line.read, line.inserted) for line in heard.ledger] == [(2, 2)], heard.rejected
    one, two, _ = table_rows(tmp_path, "things")
    assert {**one, "id": 2} == two
    require_same(text, tmp_path)


@pytest.mark.parametrize("engine", ENGINES)
def test_changes_of_every_sort(dock: Dock, tmp_path: Path, engine: str, request: pytest.FixtureRequest) -> None:
    """Large values that stay, keys that change, a key used anew, a table emptied, columns that come and go, history."""
    place = Place(engine, tmp_path, server_for(engine, request))
    dock.do("create table notes (id int primary key, state text, body text, n numeric(9, 2))")
    dock.do("alter table notes alter body set storage external")
    dock.do("create table kinds (a int, b text, v int, primary key (a, b)) partition by list (a)")
    dock.do("create table k1 partition of kinds for values in (1); create table k2 partition of kinds default")
    dock.do("create publication reed_test for table notes, kinds with (publish_via_partition_root = true)")
    dock.do("insert into notes select g, 'open', repeat(md5(g::text), 100), g / 3.0 from generate_series(1, 60) g")
    dock.do("insert into kinds values (1, 'x', 1), (2, 'x', 2)")
    notes = "{table: notes, rename: {body: text}, filter: \"state is distinct from 'hidden'\"}"
    tables = f"tables:\n  - {notes}\n  - {{table: kinds, write: versions}}\n"
    text = dock.basket(LOG + tables).replace("type: sqlite\npath: marsh.db", place.as_yaml)
    run(text, tmp_path, 1)
    dock.do("update notes set state = 'done' where id <= 3; update notes set state = 'x', body = 'short' where id = 4")
    dock.do("update notes set state = 'y' where id = 4; update notes set id = 105 where id = 5")
    dock.do("update notes set body = repeat('moved', 800) where id = 8; update notes set id = 108 where id = 8")
    dock.do("update notes set body = repeat('twice', 800) where id = 108; update notes set id = 208 where id = 108")
    dock.do("update notes set id = 205, state = 'moved' where id = 105; update notes set state = 'z' where id = 205")
    dock.do("delete from notes where id = 6; insert into notes values (6, 'anew', 'b', 1); update notes set n = 2 where id = 6")
    dock.do("update notes set state = 'hidden' where id = 7; delete from notes where id = 9")
    dock.do("update kinds set v = 9 where a = 1; update kinds set a = 5 where a = 2")
    heard = run(text, tmp_path, 2)
    notes, kinds = heard.ledger
    assert (notes.inserted, notes.updated, notes.deleted, notes.unchanged) == (2, 5, 4, 2)  # 105 and 108 were there for nobody
    assert (kinds.inserted, kinds.updated, kinds.deleted) == (1, 1, 1)
    require_same(text, tmp_path)
    assert place.ask("select length(text), substr(text, 1, 5) from notes where id in (205, 208) order by id")[1] == (
        4000,
        "twice",
    )
    dock.do("insert into notes values (300, 'lost', 'l', 0); truncate notes; insert into notes values (1, 'fresh', 'f', 1)")
    dock.do(
        "alter table notes add extra int; update notes set extra = 5; alter table notes drop n; insert into notes values (2, 's', 't', 6)"
    )
    heard = run(text, tmp_path, 3)
    assert (heard.ledger[0].removed, heard.ledger[0].superseded) == (56, 2) and "cdc.truncated" in heard.codes()
    assert sorted(place.ask("select id, state, extra from notes")) == [(1, "fresh", 5), (2, "s", 6)]
    assert place.ask("select count(*) from kinds where _rb_valid_until is not null") == [(2,)]


def test_a_transaction_that_ends_late_and_one_that_ran_during_the_snapshot(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table orders (id int primary key, v text); create publication reed_test for table orders")
    dock.do("insert into orders select g, 'a' from generate_series(1, 10) g")
    text = dock.basket(LOG + "tables: [orders]")
    run(text, tmp_path, 1)
    late = dock.cluster.connect(autocommit=False)
    late.execute(
        f"insert into {dock.schema}.orders values (100, 'late'); update {dock.schema}.orders set v = 'late' where id = 1"
    )
    dock.do("insert into orders values (101, 'soon')")
    # A second table of the feed is read whole now, while the slot and the long transaction are there already.
    dock.do(
        "create table parts (id int primary key, v text); alter publication reed_test add table parts; insert into parts values (1, 'a')"
    )
    late.execute(f"insert into {dock.schema}.parts values (2, 'late')")
    text = dock.basket(LOG + "tables: [orders, parts]")
    heard = run(text, tmp_path, 2)
    assert [(line.table, line.read) for line in heard.ledger] == [("orders", 1), ("parts", 1)]
    dock.do("update parts set v = 'b' where id = 1")
    late.commit()
    late.close()
    heard = run(text, tmp_path, 3)
    assert [(line.table, line.inserted, line.updated) for line in heard.ledger] == [("orders", 1, 1), ("parts", 1, 1)]
    require_same(text, tmp_path)
    assert run(text, tmp_path, 4).ledger == []
    (words,) = {words for _, code, words in heard.lines if code == "cdc.read" and words.startswith("2 changes read; ")}
    assert "kB and" in words and "ahead," in words


def test_a_slot_that_is_just_being_made(dock: Dock, tmp_path: Path) -> None:
    """A worker was killed while the server made its slot, which waits for a transaction: what is committed meanwhile is taken too."""
    dock.do("create table orders (id int primary key, v int, body text); alter table orders alter body set storage external")
    dock.do("create publication reed_test for table orders")
    text = dock.basket(LOG + "tables: [orders]")
    late, left, asks = dock.cluster.connect(autocommit=False), dock.cluster.connect(), dock.cluster.connect()

    def until(question: str) -> None:
        ends = time.monotonic() + 10
        while not asks.execute(question).fetchone():
            assert time.monotonic() < ends, question
            time.sleep(0.02)

    with ThreadPoolExecutor(2) as threads:
        late.execute(f"insert into {dock.schema}.orders values (1, 0, 'late')")
        making = threads.submit(left.execute, "select pg_create_logical_replication_slot('reed_test', 'pgoutput')")
        until("select 1 from pg_replication_slots where slot_name = 'reed_test' and active")
        running = threads.submit(run, text, tmp_path, 1)
        until("select 1 from pg_stat_activity where query like '%from pg_replication_slots s%' and state = 'idle'")
        dock.do("insert into orders values (2, 0, repeat('x', 5000))")
        late.commit()
        making.result()
        running.result()
    dock.do("update orders set v = 1")
    run(text, tmp_path, 2)
    require_same(text, tmp_path)
    for connection in (late, left, asks):
        connection.close()


def test_what_the_log_needs_is_told_by_name(dock: Dock, tmp_path: Path) -> None:
    """By a user who has just what `setup-sql` prints; a slot that was lost, and the way back; one that nobody reads."""
    dock.do("create table \"Orders\" (id int primary key, v text); insert into \"Orders\" values (1, 'a'), (2, 'b')")
    dock.do('create table bare (v text); create view seen as select * from "Orders"')
    text = dock.basket(LOG + "tables: [Orders]", user="logged")
    order = order_for(text)
    context = run_context_for(order, tmp_path)
    statements = [one.sql for one in setup_sql(order, context, [order]) if one.sql]
    assert 'ALTER ROLE "logged" REPLICATION;' in statements
    for statement in statements:
        if not statement.startswith(("ALTER SYSTEM", "CREATE PUBLICATION", "SELECT pg_create")):
            dock.do(statement.replace("…", "x"))
    steps = {step.step: step for step in check_database(order, context, [order])}
    assert steps["log"].ok is False and "there is no publication reed_test" in steps["log"].found
    dock.do(steps["log"].fix.partition(": ")[2])
    run(text, tmp_path, 1)
    steps = {step.step: step for step in check_database(order, context, [order])}
    assert steps["log"].ok and "1 table published, slot reed_test: " in steps["log"].found

    dock.do("select pg_drop_replication_slot('reed_test'); select pg_create_logical_replication_slot('reed_gone', 'pgoutput')")
    dock.do('delete from "Orders" where id = 1; insert into "Orders" values (3, \'c\')')
    result, _ = run_once(text, tmp_path, run=2)
    assert (
        result.error is not None
        and result.error["code"] == "source.cdc_position_lost"
        and "--allow-loss" in result.error["fix"]
    )
    heard = run(text, tmp_path, 3, accept=True)
    assert [(line.inserted, line.unchanged, line.removed) for line in heard.ledger] == [(1, 1, 1)]
    dock.do('update "Orders" set v = v || 1')
    assert [line.updated for line in run(text, tmp_path, 4).ledger] == [2]
    steps = {step.step: step for step in check_database(order, context, [order])}
    assert "reed_gone" in steps["slot"].found and "pg_drop_replication_slot('reed_gone')" in steps["slot"].fix

    dock.do('revoke select on "Orders" from logged; alter role logged noreplication')
    result, _ = run_once(text, tmp_path, run=5)
    assert result.error is not None and result.error["code"] == "source.permission_denied"
    dock.do("drop owned by logged; drop role logged")
    for tables, code in (
        ("[bare]", "definition.cdc_needs_key"), ("[{table: seen, primary_key: id}]", "source.cdc_not_enabled"),
        ("[{table: Orders, source_filter: id > 1}]", "definition.bad_value"),
    ):  # fmt: skip
        result, _ = run_once(dock.basket(LOG + f"tables: {tables}"), tmp_path / "else", run=1)
        assert result.error is not None and result.error["code"] == code, result.error
