"""What a database's log does not have, and what a pattern took that is there no more: said, and never a green run over wrong rows."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome, plan_feed
from reedbasket.core.spec import load_texts
from tests.core.test_mysql import DatabaseFixture
from tests.core.test_pg_log import LOG, require_same, run
from tests.support.dock import Dock
from tests.support.feeds import order_for, run_context_for, run_once, table_rows
from tests.support.maria import Maria


def test_generated_columns_are_left_out_of_what_follows_the_log(dock: Dock, tmp_path: Path) -> None:
    """They stand in a SELECT, and not in the log: an update would make them null."""
    dock.do("create table loads (id int primary key, kg int, lb numeric generated always as (kg * 2.2046) stored)")
    dock.do("create publication reed_test for table loads; insert into loads values (1, 10)")
    text = dock.basket(LOG + "tables: [loads]")
    order = order_for(text)
    planned = plan_feed(order, run_context_for(order, tmp_path))
    assert "cdc.generated_skipped" in [warning["code"] for warning in planned[0].warnings]
    heard = run(text, tmp_path, 1)
    assert "cdc.generated_skipped" in heard.codes()
    dock.do("update loads set kg = 20; insert into loads values (2, 5)")
    run(text, tmp_path, 2)
    assert table_rows(tmp_path, "loads") == [{"id": 1, "kg": 20}, {"id": 2, "kg": 5}]
    require_same(text, tmp_path)


def test_a_table_that_a_pattern_took_and_that_is_gone_is_told(dock: Dock, tmp_path: Path) -> None:
    for name in ("quay_a", "quay_b", "quay_c", "other"):
        dock.do(f"create table {name} (id int primary key); insert into {name} values (1)")
    dock.do("create role teller login")
    try:
        dock.do(f"grant usage on schema {dock.schema} to teller; grant select on all tables in schema {dock.schema} to teller")
        text = dock.basket("tables: [{table: 'quay_*', write: mirror}]\n", user="teller")
        assert [table.table for table in run_once(text, tmp_path)[0].tables] == ["quay_a", "quay_b", "quay_c"]
        dock.do("drop table quay_b; revoke select on quay_c from teller")
        order = order_for(text)
        planned = {one.source_table: one for one in plan_feed(order, run_context_for(order, tmp_path))}
        assert [planned[name].warnings[0]["code"] for name in ("quay_b", "quay_c")] == ["drift.table_missing"] * 2
        result, heard = run_once(text, tmp_path, run=2)
        assert result.outcome is RunOutcome.SUCCEEDED
        assert [(t.table, t.phase) for t in result.tables] == [("quay_a", "done"), ("quay_b", "skipped"), ("quay_c", "skipped")]
        said = [message for level, code, message in heard.lines if code in ("drift.table_missing", "table.permission_denied")]
        assert len(said) == 3 and not any("quay" in message for _, code, message in heard.lines if code == "table.ignored")
        spared = text.replace("write: mirror", "write: mirror, exclude: ['quay_b', 'quay_c']")
        assert [t.table for t in run_once(spared, tmp_path, run=3)[0].tables] == ["quay_a"]
        elsewhere = text.replace("'quay_*'", "'elsewhere.*'")
        assert [(t.table, t.phase) for t in run_once(elsewhere, tmp_path, run=3)[0].tables] == [("elsewhere.*", "failed")]
        result, _ = run_once(text + "on_drift: {missing_table: fail}\n", tmp_path, run=4)
        assert result.error is not None and result.error["code"] == "drift.table_missing"
        assert len(table_rows(tmp_path, "quay_b")) == 1
    finally:
        dock.do("drop owned by teller; drop role teller")


def test_two_feeds_on_one_slot_are_a_mistake(dock: Dock) -> None:
    text = dock.basket("changes: {by: cdc, slot: shared}\ntables: [a]\n")
    other = (
        "---\nfeed: other\nfrom: test\ninto: marsh\ntable_prefix: o_\ntables: [{table: b, changes: {by: cdc, slot: shared}}]\n"
    )
    with pytest.raises(DefinitionError) as wrong:
        load_texts({"basket.yaml": text + other})
    assert "definition.slot_shared" in str(wrong.value.details)


def test_compared_and_whole_reads_make_the_same_columns(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table t (id int primary key, b bytea, a int[], j jsonb, u uuid, n numeric(8, 2), bo bool)")
    dock.do(
        "insert into t values (1, '\\x00ff', '{1,2}', '{\"b\": 1}', gen_random_uuid(), 1.5, true), (2, '\\x01', '{}', '[]', null, 2, null)"
    )
    found = []
    for by in ("full", "compare"):
        folder = tmp_path / by
        for number in (1, 2):
            result, heard = run_once(
                dock.basket(f"tables: [{{table: t, changes: {{by: {by}}}, write: mirror}}]"), folder, run=number
            )
            assert result.outcome is RunOutcome.SUCCEEDED
        assert sum(line.inserted + line.updated for line in heard.ledger) == 0
        with closing(sqlite3.connect(folder / "marsh.db")) as db:
            kinds = [row[1:3] for row in db.execute("pragma table_info(t)")]
        found.append((kinds, table_rows(folder, "t")))
    assert found[0] == found[1]


# (what is done to the table, whether its rows have to be read once more)
ALTERED = [
    ("alter table beds rename column name to title", True),
    ("alter table beds alter column n type int using n::int", True),
    ("alter table beds alter column n type int using n * 10", True),
    ("alter table beds add column note text", False),
    ("vacuum full beds", False),
    ("update beds set n = n + 1", False),
    ("alter table beds add column w int default 7", True),
    ("alter table beds drop column w", False),
]
BEDS = "changes: {by: cdc}\ntables: [beds]\n"


def require_altered(do: Any, text: str, folder: Path, altered: list[tuple[str, bool]], parts: str = "") -> None:
    do(f"create table beds (id int primary key, n varchar(20), name text) {parts}")
    do("insert into beds values (1, '5', 'a'), (2, '6', 'b')")
    run(text, folder, 1)
    for number, (statement, anew) in enumerate(altered, 2):
        do(statement)
        do(f"insert into beds (id, n) values ({number + 1}, 7)")
        heard = run(text, folder, number)
        assert ("cdc.reloaded" in heard.codes()) is anew, statement
        if "drop" not in statement:  # what was there stays, as is said
            require_same(text, folder)


@pytest.mark.parametrize("parts", ["", "partition by range (id)"])
def test_what_the_log_does_not_tell_of_an_altered_table_is_read(dock: Dock, tmp_path: Path, parts: str) -> None:
    def do(statement: str) -> None:
        dock.do(statement)
        if statement.startswith("create table"):
            dock.do("create publication reed_test for table beds with (publish_via_partition_root = true)")
            dock.do("create table beds_low partition of beds for values from (0) to (5)" if parts else "select 1")
            dock.do("create table beds_high partition of beds default" if parts else "select 1")

    require_altered(do, dock.basket(BEDS), tmp_path, ALTERED, parts)


def test_the_same_of_mariadb(maria: Maria, tmp_path: Path) -> None:
    yard = DatabaseFixture(maria)
    own = {ALTERED[1][0]: "alter table beds modify n int", "vacuum full beds": "optimize table beds"}
    altered = [(own.get(statement, statement), anew) for statement, anew in ALTERED if "* 10" not in statement]
    require_altered(yard.do, yard.basket(BEDS), tmp_path, altered)
