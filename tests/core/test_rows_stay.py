"""What could not be read has not gone, and what came stands as often as it came: files and tables, each fault seen on an older loader."""

from __future__ import annotations

import json
import os
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest

from reedbasket.core.runs import RunOutcome, plan_feed, run_feed
from reedbasket.core.runs.execution.replay import Replayed
from tests.core.test_files import BASKET, Folder
from tests.support.dock import MARSH, Dock
from tests.support.feeds import Heard, basket_text, order_for, run_context_for, run_once, table_rows
from tests.support.source import Changing, serving
from tests.support.warehouses import ENGINES, Cluster, Place

HTML = "<!DOCTYPE html>\n<html><body>Please, sign in</body></html>\n"
REEDS = "source: test\ntype: sqlite\npath: reeds.db\n---\n" + MARSH


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    return Folder(tmp_path)


def refused(folder: Folder, tables: str, run: int) -> str:
    result, _ = folder.run(tables, run=run)
    assert result.outcome is RunOutcome.FAILED and result.error is not None
    return str(result.error["code"])


@pytest.mark.parametrize(
    "said", ["write: append", "write: upsert, primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}"]
)
def test_a_changed_file_that_is_bad_leaves_its_rows_and_a_mended_one_takes_their_place(folder: Folder, said: str) -> None:
    tables = f"  counts: {{files: '*.csv', {said}}}\n"
    folder.put("a.csv", "id,n\n1,10\n2,20\n", age=300)
    folder.good(tables)
    folder.put("a.csv", "id,n\n1,11\n2", age=200)
    assert refused(folder, tables, 2) == "file.damaged"
    assert folder.rows("counts") == [(1, 10), (2, 20)]
    folder.put("a.csv", "id,n\n1,11\n", age=100)
    folder.good(tables, run=3)
    assert folder.rows("counts") == [(1, 11)]


@pytest.mark.parametrize(
    "way",
    [
        "write: replace",
        "write: append",
        "write: mirror, primary_key: id",
        "write: versions, primary_key: id",
        "changes: {by: compare}, primary_key: id",
    ],
)
def test_a_complete_read_with_a_file_that_cannot_be_read_removes_nothing(folder: Folder, way: str) -> None:
    way = way if "changes" in way else f"changes: {{by: full}}, {way}"
    tables = f"  counts: {{files: '*.csv', {way}}}\n"
    folder.put("a.csv", "id,n\n1,10\n")
    folder.put("b.csv", "id,n\n2,20\n")
    folder.good(tables)
    before = folder.rows("counts")
    folder.put("b.csv", "id,n\n2,2\n3")
    assert refused(folder, tables, 2) == "file.damaged"
    assert folder.rows("counts") == before


def test_a_line_that_nobody_could_read_keeps_the_rows_of_its_own_file_alone(folder: Folder) -> None:
    """It may be the row that is missing there; a row that another file holds no more has gone."""
    tables = "  counts: {files: '*.ndjson', primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}}\n"
    folder.put("a.ndjson", '{"id": 1}\n{"id": 2}\n', age=300)
    folder.put("b.ndjson", '{"id": 3}\n{"id": 4}\n', age=300)
    folder.good(tables)
    folder.put("a.ndjson", '{"id": 1}\n', age=200)
    folder.put("b.ndjson", '{"id": 3}\n{"id": \n', age=200)
    assert [reject.code for reject in folder.good(tables, run=2).rejected] == ["record.not_json"]
    assert folder.rows("counts") == [(1,), (3,), (4,)]
    folder.put("b.ndjson", '{"id": 3}\n', age=100)
    folder.good(tables, run=3)
    assert folder.rows("counts") == [(1,), (3,)]


def test_a_record_that_is_no_unicode_is_rejected_by_a_replay_too(folder: Folder) -> None:
    tables = "  counts: {files: '*.ndjson', primary_key: id}\n"
    folder.put("a.ndjson", '{"id": 1, "name": "eel"}\n')
    folder.put("b.ndjson", b'{"id": 2, "name": "\xff"}\n{"id": 3, "name": "ide"}\n')
    (reject,) = folder.good(tables).rejected
    order, heard = order_for(BASKET + tables, run=2), Heard()
    again = {("marsh", "counts"): Replayed([reject.record, {"id": 4, "name": "tench"}], [1, 1])}
    run_feed(order, run_context_for(order, folder.data), listener=heard, clock=lambda: datetime.now(UTC), again=again)
    assert [(r.code, r.record["id"]) for r in heard.rejected] == [("value.not_unicode", 2)]
    assert folder.rows("counts") == [(1, "eel"), (3, "ide"), (4, "tench")]


@pytest.mark.parametrize("write", ["append", "upsert, primary_key: id"])
def test_what_a_file_held_comes_by_a_replay_and_not_behind_the_file_itself(folder: Folder, write: str) -> None:
    """The file of a row is known, so that it goes with the others once the file has changed."""
    by = "{by: files, changed: replace, stable_for: 0s}"
    tables = f"  counts: {{files: '*.ndjson', write: {write}, changes: {by}, cast: {{n: int64}}}}\n"
    folder.put("a.ndjson", '{"id": 1, "n": 1}\n{"id": 2, "n": "two"}\n', age=300)
    folder.put("b.ndjson", '{"id": 3, "n": "three"}\n', age=300)
    rejects = folder.good(tables).rejected
    assert sorted(reject.record["id"] for reject in rejects) == [2, 3]
    folder.put("a.ndjson", '{"id": 1, "n": 11}\n', age=200)
    folder.good(tables, run=2)
    fixed, heard = tables.replace("int64", "text"), Heard()
    order = order_for(BASKET + fixed, run=3)
    again = Replayed([r.record for r in rejects], [1, 1], [r.file or 0 for r in rejects])
    result = run_feed(
        order,
        run_context_for(order, folder.data),
        listener=heard,
        clock=lambda: datetime.now(UTC),
        again={("marsh", "counts"): again},
    )
    assert result.error is None
    assert [(line.read, line.inserted, line.superseded) for line in heard.ledger] == [(2, 1, 1)]
    assert sorted(folder.rows("counts")) == [(1, "11"), (3, "three")]
    folder.put("b.ndjson", '{"id": 4, "n": "four"}\n', age=100)
    folder.good(fixed, run=4)
    assert sorted(folder.rows("counts")) == [(1, "11"), (4, "four")]


def test_a_file_told_by_its_content_is_read_again_whatever_it_looks_like(folder: Folder) -> None:
    tables = "  counts: {files: '*.csv', primary_key: id, changes: {by: files, stable_for: 0s, checksum: true}}\n"
    path = folder.put("a.csv", "id,n\n1,10\n")
    os.utime(path, (1_780_000_000, 1_780_000_000))
    folder.good(tables)
    path.write_text("id,n\n1,20\n")
    os.utime(path, (1_780_000_000, 1_780_000_000))
    folder.good(tables.replace(", checksum: true", ""), run=2)
    assert folder.rows("counts") == [(1, 10)]
    folder.good(tables, run=3)
    assert folder.rows("counts") == [(1, 20)]
    path.touch()
    assert folder.good(tables, run=4).ledger == []


def test_a_compare_that_meets_only_a_line_it_cannot_read(folder: Folder) -> None:
    """Nothing differs; and the line may be the row that is missing, so that none is removed."""
    tables = "  counts: {files: '*.ndjson', primary_key: id, changes: {by: compare}}\n"
    folder.put("a.ndjson", '{"id": 1}\n{"id": 2}\n{"id": 3}\n')
    folder.good(tables)
    folder.put("a.ndjson", '{"id": 1}\n{"id": 2}\n{"id": \n')
    heard = folder.good(tables, run=2)
    assert [reject.code for reject in heard.rejected] == ["record.not_json"]
    assert folder.rows("counts") == [(1,), (2,), (3,)]


@pytest.mark.parametrize(
    "said", ["write: append", "write: upsert, primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}"]
)
def test_a_file_that_came_back_empty_takes_no_table_with_it(folder: Folder, said: str) -> None:
    tables = f"  counts: {{files: '*.csv', {said}}}\n"
    folder.put("a.csv", "id,n\n" + "".join(f"{n},{n}\n" for n in range(40)), age=300)
    folder.good(tables)
    folder.put("a.csv", "", age=200)
    assert refused(folder, tables, 2) == "run.too_many_removed"
    assert len(folder.rows("counts")) == 40
    folder.good(tables, run=3, accept=True)
    assert folder.rows("counts") == []


def test_a_complete_read_waits_for_files_that_are_still_written(folder: Folder) -> None:
    """Their rows have not gone."""
    tables = "  counts: {files: '*.csv', changes: {by: full}, write: replace}\n"
    folder.put("a.csv", "id,n\n1,10\n")
    folder.put("b.csv", "id,n\n2,20\n")
    folder.good(tables)
    folder.put("b.csv", "id,n\n2,21\n", age=0)
    assert refused(folder, tables, 2) == "file.changed"
    assert folder.rows("counts") == [(1, 10), (2, 20)]


@pytest.mark.parametrize(("name", "good", "other", "code"), [
    ("a.ndjson", '{"id": 1}\n', HTML, "file.unreadable"),
    ("a.ndjson", '{"id": 1}\n', "not found\nsorry\n", "file.unreadable"),
    ("a.ndjson", '{"id": 1}\n', '{"error": "late"}\n', "source.field_not_found"),
    ("a.csv", "id,n\n1,2\n", HTML, "file.unreadable"),
    ("a.csv", "id,n\n1,2\n", "day,fuel\n2026-03-02,7\n", "file.unreadable"),
    ("a.csv", "id,n\n1,2\n", "Session expired\n", "file.unreadable"),
    ("a.csv", "id,n\n1,2\n", "ID,n\n1,2\n", "source.field_not_found"),
])  # fmt: skip
def test_a_file_of_something_else_is_bad_and_not_a_file_of_rejects(
    folder: Folder, name: str, good: str, other: str, code: str
) -> None:
    tables = "  counts: {files: 'a.*', primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}}\n"
    folder.put(name, good, age=300)
    folder.good(tables)
    before = folder.rows("counts")
    folder.put(name, other, age=200)
    assert refused(folder, tables, 2) == code
    assert folder.rows("counts") == before


def test_a_file_with_none_of_the_columns_is_bad_where_there_is_no_key(folder: Folder) -> None:
    tables = "  counts: {files: '*.csv'}\n"
    folder.put("a.csv", "id,n\n1,2\n")
    folder.good(tables)
    folder.put("b.csv", "day,fuel\n2026-03-02,7\n")
    assert refused(folder, tables, 2) == "file.unreadable"
    assert folder.rows("counts") == [(1, 2)]


@pytest.mark.parametrize("warehouse", ["sqlite", "duckdb"])
def test_appended_rows_of_one_key_all_stay(tmp_path: Path, warehouse: str) -> None:
    """A database tells its key; what is appended is not told by it."""
    text = REEDS.replace("type: sqlite\npath: marsh.db", f"type: {warehouse}\npath: marsh.db")
    text += "tables: {beds: {changes: {by: cursor, column: at}, write: append}}\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, cut integer, at datetime)")
        db.execute("insert into beds values (1, 3, '2026-03-02 06:00:00')")
        assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        db.execute("update beds set cut = 4, at = '2026-03-03 06:00:00'")
        result, heard = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(line.read, line.inserted) for line in heard.ledger] == [(1, 1)]


def test_a_column_of_nulls_that_comes_or_goes_appends_nothing_once_more(tmp_path: Path) -> None:
    text = REEDS + "tables: {beds: {changes: {by: cursor, column: at, overlap: 1d}, write: append}}\n"
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
    text = REEDS + "tables: {beds: {changes: {by: cursor, column: at, overlap: 1d}, write: append}}\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, at datetime)")
        db.execute("insert into beds values (1, '2026-03-02 06:00:00')")
        for run in (1, 2, 3):
            assert run_once(text, tmp_path, run=run)[0].outcome is RunOutcome.SUCCEEDED
            db.execute("insert or ignore into beds values (2, '2026-03-02 06:00:01.001')")
    assert [row["id"] for row in table_rows(tmp_path, "beds")] == [1, 2]


def test_a_file_with_a_key_that_comes_twice_is_appended_twice(folder: Folder) -> None:
    folder.put("a.csv", "id,n\n1,2\n1,3\n")
    folder.good("  counts: {files: '*.csv', primary_key: id, write: append}\n")
    assert folder.rows("counts") == [(1, 2), (1, 3)]


def test_a_feed_whose_patterns_match_nothing_has_not_succeeded(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key)")
        text = REEDS + "tables: {'bads*': }\n"
        order = order_for(text)
        planned = plan_feed(order, run_context_for(order, tmp_path))
        assert [one.error and one.error["code"] for one in planned] == ["definition.unknown_table"]
        result, _ = run_once(text, tmp_path)
        assert result.error is not None and result.error["code"] == "definition.unknown_table"
        # One of several that matches nothing is told.
        result, heard = run_once(text.replace("'bads*': ", "'bads*': , 'beds*': "), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED and "table.no_match" in heard.codes()


def test_a_key_by_another_name_leaves_no_row_doubled(tmp_path: Path) -> None:
    text = REEDS + "tables: {beds: {write: upsert}}\n"
    with closing(sqlite3.connect(tmp_path / "reeds.db", isolation_level=None)) as db:
        db.execute("create table beds (id integer primary key, cut integer)")
        db.execute("insert into beds values (1, 3)")
        assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        db.execute("alter table beds rename column id to number")
        result, _ = run_once(text, tmp_path, run=2)
        assert result.error is not None and result.error["code"] == "definition.not_kept"
        result, _ = run_once(text, tmp_path, run=3, accept=True)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(row["number"], row["cut"]) for row in table_rows(tmp_path, "beds")] == [(1, 3)]


@pytest.mark.parametrize("engine", ENGINES)
def test_a_replay_never_takes_the_place_of_what_came_later(tmp_path: Path, engine: str, cluster: Cluster) -> None:
    """Without a time that tells which is newer, the runs do."""
    place = Place(engine, tmp_path, cluster)
    text = (
        "source: test\ntype: files\npath: in\n---\nwarehouse: marsh\n"
        + place.as_yaml
        + "\n---\nfeed: test\nfrom: test\ninto: marsh\n"
    )
    text += "tables: {counts: {files: '*.ndjson', primary_key: id, changes: {by: compare}, cast: {n: KIND}}}\n"
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


def test_files_that_were_taken_come_again_under_a_key_that_their_rows_lack(folder: Folder) -> None:
    folder.put("a.csv", "id,n\n1,10\n")
    tables = "  counts: {files: '*.csv', primary_key: id}\n"
    folder.good(tables)
    folder.put("b.csv", "id,code,n\n3,x,30\n")
    result, _ = folder.run(tables.replace("primary_key: id", "primary_key: code"), run=2, accept=True)
    assert result.error is not None and "a.csv" in result.error["found"]


def test_a_plan_says_that_a_log_cannot_be_followed(dock: Dock, tmp_path: Path) -> None:
    """No publication; then a slot that is gone."""
    dock.do("create table beds (id int primary key)")
    text = dock.basket("defaults: {changes: {by: cdc}}\ntables: {beds: }\n")

    def code(run: int) -> object:
        order = order_for(text, run=run)
        error = plan_feed(order, run_context_for(order, tmp_path))[0].error
        return error and error["code"]

    assert code(1) == "source.not_published"
    dock.do("create publication reed_test for table beds")
    assert code(1) is None
    assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    dock.do("select pg_drop_replication_slot('reed_test')")
    assert code(2) == "source.log_lost"


def test_a_view_that_is_broken_is_no_matter_of_the_tables_beside_it(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "reeds.db")) as db:
        db.executescript("create table beds (id integer primary key); insert into beds values (1); create table older (id);")
        db.executescript("create view a_view as select * from older; drop table older;")
    text = REEDS + "tables: {TABLES: }\n"
    assert run_once(text.replace("TABLES", "beds"), tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    result, heard = run_once(text.replace("TABLES", '"*"'), tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED and "table.no_right" in heard.codes()
    result, _ = run_once(text.replace("TABLES", "a_view"), tmp_path, run=3)
    assert result.error is not None and (result.error["code"], "older" in result.error["found"]) == ("source.broken_view", True)


def test_a_time_without_end_is_rejected_as_it_came_and_a_replay_changes_no_type(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table beds (id int primary key, cut date, at timestamptz)")
    dock.do("insert into beds values (1, '2026-03-01', '2026-03-01 06:00Z'), (2, 'infinity', '-infinity')")
    dock.do("insert into beds values (3, '0044-03-15 BC', '10000-01-01 00:00Z')")
    text = dock.basket("tables: {beds: CAST}\n")
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
    fixed = replayed("{cast: {cut: text, at: text}}", 3)
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
    tables = f"tables: {{beds: {{changes: {by}, write: append}}}}\n"
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
    text = dock.basket(f"tables: {{weights: {{changes: {by}, write: append}}}}\n")
    for run, (key, value) in enumerate((("g", "NaN"), ("h", "1.5000"), ("i", "0")), 1):
        dock.do("insert into weights values (%s, %s, %s)", key, value, f"2026-03-01 06:00:0{run}+00")
        if run == 2:
            dock.do("update weights set kg = 2 where id = 'g'")
        result, _ = run_once(text, tmp_path, run=run)
        assert result.error is None
    assert sorted(row["id"] for row in table_rows(tmp_path, "weights")) == ["g", "g", "h", "i"]
