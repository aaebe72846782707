"""What could not be read has not gone, and what came stands as often as it came: tables, each fault seen on an older loader."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest

from reedbasket.core.runs import RunOutcome, plan_feed, run_feed
from reedbasket.core.runs.execution.replay import Replayed
from tests.core.test_files import Folder
from tests.support.dock import MARSH, Dock
from tests.support.feeds import Heard, basket_text, order_for, run_context_for, run_once, table_rows
from tests.support.source import Changing, serving
from tests.support.warehouses import ENGINES, Place, server_for

REEDS = "source: test\ntype: sqlite\npath: reeds.db\n---\n" + MARSH


@pytest.mark.parametrize("warehouse", ["sqlite", "duckdb"])
def test_appended_rows_of_one_key_all_stay(tmp_path: Path, warehouse: str) -> None:
    """A database tells its key; what is appended is not told by it."""
    text = REEDS.replace("type: sqlite\npath: marsh.db", f"type: {warehouse}\npath: marsh.db")
    text += "tables: [{table: beds, changes: {by: cursor, column: at}, write: append}]\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, cut integer, at datetime)")
        db.execute("insert into beds values (1, 3, '2026-03-02 06:00:00')")
        assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        db.execute("update beds set cut = 4, at = '2026-03-03 06:00:00'")
        result, heard = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(line.read, line.inserted) for line in heard.ledger] == [(1, 1)]


def test_a_column_of_nulls_that_comes_or_goes_appends_nothing_once_more(tmp_path: Path) -> None:
    text = REEDS + "tables: [{table: beds, changes: {by: cursor, column: at, overlap: 1d}, write: append}]\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, at datetime)")
        db.execute("insert into beds values (1, '2026-03-02 06:00:00')")
        for run, change in enumerate(
            ("analyze", "alter table beds add column note text", "alter table beds drop column note"), 1
        ):
            db.execute(change)
            assert run_once(text, tmp_path, run=run)[0].outcome is RunOutcome.SUCCEEDED
    assert [row["id"] for row in table_rows(tmp_path, "beds")] == [1]


def test_times_with_fractions_after_a_whole_second_are_appended_once(tmp_path: Path) -> None:
    text = REEDS + "tables: [{table: beds, changes: {by: cursor, column: at, overlap: 1d}, write: append}]\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, at datetime)")
        db.execute("insert into beds values (1, '2026-03-02 06:00:00')")
        for run in (1, 2, 3):
            assert run_once(text, tmp_path, run=run)[0].outcome is RunOutcome.SUCCEEDED
            db.execute("insert or ignore into beds values (2, '2026-03-02 06:00:01.001')")
    assert [row["id"] for row in table_rows(tmp_path, "beds")] == [1, 2]


def test_a_feed_whose_patterns_match_nothing_has_not_succeeded(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key)")
        text = REEDS + "tables: ['bads*']\n"
        order = order_for(text)
        planned = plan_feed(order, run_context_for(order, tmp_path))
        assert [one.error and one.error["code"] for one in planned] == ["definition.unknown_table"]
        result, _ = run_once(text, tmp_path)
        assert result.error is not None and result.error["code"] == "definition.unknown_table"
        # One of several that matches nothing is told.
        result, heard = run_once(text.replace("'bads*'", "'bads*', 'beds*'"), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED and "table.no_match" in heard.codes()


def test_a_key_by_another_name_leaves_no_row_doubled(tmp_path: Path) -> None:
    text = REEDS + "tables: [{table: beds, write: upsert}]\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, cut integer)")
        db.execute("insert into beds values (1, 3)")
        assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        db.execute("alter table beds rename column id to number")
        result, _ = run_once(text, tmp_path, run=2)
        assert result.error is not None and result.error["code"] == "definition.would_lose_data"
        result, _ = run_once(text, tmp_path, run=3, accept=True)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(row["number"], row["cut"]) for row in table_rows(tmp_path, "beds")] == [(1, 3)]


@pytest.mark.parametrize("engine", ENGINES)
def test_a_replay_never_takes_the_place_of_what_came_later(tmp_path: Path, engine: str, request: pytest.FixtureRequest) -> None:
    """Without a time that tells which is newer, the runs do."""
    place = Place(engine, tmp_path, server_for(engine, request))
    text = (
        "source: test\ntype: files\npath: in\n---\nwarehouse: marsh\n"
        + place.as_yaml
        + "\n---\nfeed: test\nfrom: test\ninto: marsh\n"
    )
    text += "tables: [{table: counts, files: '*.ndjson', primary_key: id, changes: {by: compare}, cast: {n: KIND}}]\n"
    folder = Folder(tmp_path)

    def run(number: int, *lines: str) -> None:
        folder.put("a.ndjson", "".join(f"{line}\n" for line in lines), age=1000 - number)
        result, _ = run_once(text.replace("KIND", "int64"), tmp_path, run=number)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error

    odd, odder = {"id": 2, "n": "two"}, {"id": 3, "n": "three"}
    run(1, '{"id": 1, "n": 1}', '{"id": 2, "n": 0}', '{"id": 3, "n": 0}')
    run(2, '{"id": 1, "n": 1}', json.dumps(odd), json.dumps(odder))
    run(3, '{"id": 1, "n": 1}', '{"id": 2, "n": 22}', json.dumps(odder))
    order = order_for(text.replace("KIND", "text"), run=4)
    again = {("marsh", "counts"): Replayed([odd, odder], [2, 3])}
    heard = Heard()
    result = run_feed(order, run_context_for(order, tmp_path), listener=heard, clock=lambda: datetime.now(UTC), again=again)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(line.read, line.updated, line.superseded) for line in heard.ledger] == [(2, 1, 1)]
    assert sorted(place.ask("select id, n from counts")) == [(1, "1"), (2, "22"), (3, "three")]


def test_a_plan_says_that_a_log_cannot_be_followed(dock: Dock, tmp_path: Path) -> None:
    """No publication; then a slot that is gone."""
    dock.do("create table beds (id int primary key)")
    text = dock.basket("changes: {by: cdc}\ntables: [beds]\n")

    def code(run: int) -> object:
        order = order_for(text, run=run)
        error = plan_feed(order, run_context_for(order, tmp_path))[0].error
        return error and error["code"]

    assert code(1) == "source.not_published"
    dock.do("create publication reed_test for table beds")
    assert code(1) is None
    assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    dock.do("select pg_drop_replication_slot('reed_test')")
    assert code(2) == "source.cdc_position_lost"


def test_a_view_that_is_broken_is_no_matter_of_the_tables_beside_it(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "reeds.db")) as db:
        db.executescript("create table beds (id integer primary key); insert into beds values (1); create table older (id);")
        db.executescript("create view a_view as select * from older; drop table older;")
    text = REEDS + "tables: [TABLES]\n"
    assert run_once(text.replace("TABLES", "beds"), tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    result, heard = run_once(text.replace("TABLES", '"*"'), tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED and "table.permission_denied" in heard.codes()
    result, _ = run_once(text.replace("TABLES", "a_view"), tmp_path, run=3)
    assert result.error is not None and (result.error["code"], "older" in result.error["found"]) == ("source.broken_view", True)


def test_a_time_without_end_is_rejected_as_it_came_and_a_replay_changes_no_type(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table beds (id int primary key, cut date, at timestamptz)")
    dock.do("insert into beds values (1, '2026-03-01', '2026-03-01 06:00Z'), (2, 'infinity', '-infinity')")
    dock.do("insert into beds values (3, '0044-03-15 BC', '10000-01-01 00:00Z')")
    text = dock.basket("tables: [{table: bedsCAST}]\n")
    result, heard = run_once(text.replace("CAST", ""), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    came = [reject.record for reject in heard.rejected]
    assert [(r["cut"], r["at"]) for r in came] == [("infinity", "-infinity"), ("0044-03-15 BC", "10000-01-01T00:00:00Z")]

    def replayed(said: str, run: int) -> list[tuple[object, ...]]:
        order = order_for(text.replace("CAST", said), run=run)
        again = {("marsh", "beds"): Replayed(came, [1, 1])}
        run_feed(order, run_context_for(order, tmp_path), listener=Heard(), clock=lambda: datetime.now(UTC), again=again)
        return [(row["id"], row["cut"], row["at"]) for row in table_rows(tmp_path, "beds")]

    before = [(row["id"], row["cut"], row["at"]) for row in table_rows(tmp_path, "beds")]
    assert len(before) == 1 and replayed("", 2) == before
    fixed = replayed(", cast: {cut: text, at: text}", 3)
    assert sorted(fixed)[1:] == [(2, "infinity", "-infinity"), (3, "0044-03-15 BC", "10000-01-01T00:00:00Z")]


def test_what_comes_again_is_recognised_however_its_batch_writes_it(tmp_path: Path, dock: Dock) -> None:
    """One value decides how a whole batch is written: a NaN makes decimals text, a fraction makes whole numbers doubles."""
    at = "2026-03-01T06:00:0{}Z"
    records = [{"id": "a", "n": 5, "updated_at": at.format(1)}, {"id": "b", "n": 7, "updated_at": at.format(2)}]
    with serving(Changing(records)) as source:
        text = basket_text(source.url, write="append", overlap="10m")
        run_once(text, tmp_path)
        records.append({"id": "c", "n": 2.5, "updated_at": at.format(3)})
        run_once(text, tmp_path, run=2)
    assert sorted(row["id"] for row in table_rows(tmp_path, "things")) == ["a", "b", "c"]

    by = "{by: cursor, column: at, overlap: 10m}"
    source_db = tmp_path / "yard.db"
    tables = f"tables: [{{table: beds, changes: {by}, write: append}}]\n"
    text = f"source: test\ntype: sqlite\npath: {source_db}\n---\n{MARSH}{tables}"
    with closing(sqlite3.connect(source_db)) as db:
        db.execute("create table beds (id text primary key, n, at datetime)")
        for run, (key, value) in enumerate((("d", 5), ("e", 2.5), ("f", "none")), 1):
            db.execute("insert into beds values (?, ?, ?)", (key, value, f"2026-03-01 06:00:0{run}"))
            db.commit()
            result, _ = run_once(text, tmp_path, run=run)
            assert result.error is None
    assert sorted(row["id"] for row in table_rows(tmp_path, "beds")) == ["d", "e", "f"]

    dock.do("create table weights (id text primary key, kg numeric(12, 4), at timestamptz)")
    text = dock.basket(f"tables: [{{table: weights, changes: {by}, write: append}}]\n")
    for run, (key, value) in enumerate((("g", "NaN"), ("h", "1.5000"), ("i", "0")), 1):
        dock.do("insert into weights values (%s, %s, %s)", key, value, f"2026-03-01 06:00:0{run}+00")
        if run == 2:
            dock.do("update weights set kg = 2 where id = 'g'")
        result, _ = run_once(text, tmp_path, run=run)
        assert result.error is None
    assert sorted(row["id"] for row in table_rows(tmp_path, "weights")) == ["g", "g", "h", "i"]
