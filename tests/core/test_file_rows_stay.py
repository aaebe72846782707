"""Files that could not be read have not gone, and what came of them stands as often as it came: each fault seen on an older loader."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path

import pytest

from reedbasket.core.runs import RunOutcome, run_feed
from reedbasket.core.runs.execution.replay import Replayed
from tests.core.test_files import BASKET, Folder
from tests.support.feeds import Heard, order_for, run_context_for

HTML = "<!DOCTYPE html>\n<html><body>Please, sign in</body></html>\n"


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
    tables = f"  - {{table: counts, files: '*.csv', {said}}}\n"
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
    tables = f"  - {{table: counts, files: '*.csv', {way}}}\n"
    folder.put("a.csv", "id,n\n1,10\n")
    folder.put("b.csv", "id,n\n2,20\n")
    folder.good(tables)
    before = folder.rows("counts")
    folder.put("b.csv", "id,n\n2,2\n3")
    assert refused(folder, tables, 2) == "file.damaged"
    assert folder.rows("counts") == before


def test_a_line_that_nobody_could_read_keeps_the_rows_of_its_own_file_alone(folder: Folder) -> None:
    """It may be the row that is missing there; a row that another file holds no more has gone."""
    tables = "  - {table: counts, files: '*.ndjson', primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}}\n"
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
    tables = "  - {table: counts, files: '*.ndjson', primary_key: id}\n"
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
    tables = f"  - {{table: counts, files: '*.ndjson', write: {write}, changes: {by}, cast: {{n: int64}}}}\n"
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
    tables = "  - {table: counts, files: '*.csv', primary_key: id, changes: {by: files, stable_for: 0s, checksum: true}}\n"
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
    tables = "  - {table: counts, files: '*.ndjson', primary_key: id, changes: {by: compare}}\n"
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
    tables = f"  - {{table: counts, files: '*.csv', {said}}}\n"
    folder.put("a.csv", "id,n\n" + "".join(f"{n},{n}\n" for n in range(40)), age=300)
    folder.good(tables)
    folder.put("a.csv", "", age=200)
    assert refused(folder, tables, 2) == "run.too_many_removed"
    assert len(folder.rows("counts")) == 40
    folder.good(tables, run=3, accept=True)
    assert folder.rows("counts") == []


def test_a_complete_read_waits_for_files_that_are_still_written(folder: Folder) -> None:
    """Their rows have not gone."""
    tables = "  - {table: counts, files: '*.csv', changes: {by: full}, write: replace}\n"
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
    tables = "  - {table: counts, files: 'a.*', primary_key: id, changes: {by: files, changed: replace, stable_for: 0s}}\n"
    folder.put(name, good, age=300)
    folder.good(tables)
    before = folder.rows("counts")
    folder.put(name, other, age=200)
    assert refused(folder, tables, 2) == code
    assert folder.rows("counts") == before


def test_a_file_with_none_of_the_columns_is_bad_where_there_is_no_key(folder: Folder) -> None:
    tables = "  - {table: counts, files: '*.csv'}\n"
    folder.put("a.csv", "id,n\n1,2\n")
    folder.good(tables)
    folder.put("b.csv", "day,fuel\n2026-03-02,7\n")
    assert refused(folder, tables, 2) == "file.unreadable"
    assert folder.rows("counts") == [(1, 2)]


def test_a_file_with_a_key_that_comes_twice_is_appended_twice(folder: Folder) -> None:
    folder.put("a.csv", "id,n\n1,2\n1,3\n")
    folder.good("  - {table: counts, files: '*.csv', primary_key: id, write: append}\n")
    assert folder.rows("counts") == [(1, 2), (1, 3)]


def test_files_that_were_taken_come_again_under_a_key_that_their_rows_lack(folder: Folder) -> None:
    folder.put("a.csv", "id,n\n1,10\n")
    tables = "  - {table: counts, files: '*.csv', primary_key: id}\n"
    folder.good(tables)
    folder.put("b.csv", "id,code,n\n3,x,30\n")
    result, _ = folder.run(tables.replace("primary_key: id", "primary_key: code"), run=2, accept=True)
    assert result.error is not None and "a.csv" in result.error["found"]
