"""What is read once for several warehouses although a pass keeps more than a cursor: files, ranges, versions of rows, tags, parents."""

from __future__ import annotations

import gzip
import json
import os
import sqlite3
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.execution import file_table_reader as file_taking
from tests.core.test_parents import FAMILY, Harbour
from tests.core.test_ranges import StopsAfter, made
from tests.core.test_requests import basket
from tests.support.feeds import Heard, run_once
from tests.support.source import Answer, Request, serving

pytestmark = pytest.mark.slow

THIRD = "\n---\nwarehouse: third\ntype: sqlite\npath: third.db\n"


def rows(folder: Path, warehouse: str, table: str, columns: str) -> list[tuple[Any, ...]]:
    with closing(sqlite3.connect(folder / f"{warehouse}.db")) as db:
        return db.execute(f"select {columns} from {table} order by {columns}").fetchall()


def both(folder: Path, table: str, columns: str) -> list[tuple[Any, ...]]:
    first, second = (rows(folder, warehouse, table, columns) for warehouse in ("marsh", "third"))
    assert first == second
    return first


def opened(heard: Heard) -> list[str]:
    return [one.url for one in heard.requests if one.method == "FILE"]


FILES = """source: test
type: files
path: in
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: [marsh, third]
rows_per_commit: 500
changes: {{by: files, stable_for: 0s}}
tables: [{{table: counts, files: "*.ndjson*", write: {write}{more}}}]
"""


def put(folder: Path, name: str, first: int, count: int, *, whole: bool = True, letters: int = 5) -> None:
    """letters: of one value, at random."""
    path = folder / "in" / name
    path.parent.mkdir(exist_ok=True)
    gates = [os.urandom(letters).hex() for _ in range(count)]
    records = [{"id": n, "gate": gate, "kids": [{"n": n}]} for n, gate in zip(range(first, first + count), gates)]
    text = "".join(json.dumps(record) + "\n" for record in records)
    content = gzip.compress(text.encode(), mtime=0) if name.endswith(".gz") else text.encode()
    path.write_bytes(content if whole else content[: len(content) * 2 // 3])
    os.utime(path, (time.time() - 60, time.time() - 60))


@pytest.mark.parametrize("write", ["upsert", "append"])
def test_files_are_read_once_and_by_itself_for_one_that_is_behind(tmp_path: Path, write: str) -> None:
    text = FILES.format(write=write, more=", primary_key: id") + THIRD
    for number in range(4):
        put(tmp_path, f"a{number}.ndjson", number * 300, 300)
    result, heard = run_once(text, tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert opened(heard) == [f"a{number}.ndjson" for number in range(4)]
    assert [row[0] for row in both(tmp_path, "counts", "id")] == list(range(1200))
    whole = (tmp_path / "third.db").read_bytes()
    (tmp_path / "third.db").write_bytes(b"no database at all" * 300)
    put(tmp_path, "b.ndjson", 1200, 10)
    assert run_once(text, tmp_path, run=2)[0].outcome is RunOutcome.FAILED
    (tmp_path / "third.db").write_bytes(whole)
    put(tmp_path, "c.ndjson", 1210, 10)
    result, heard = run_once(text, tmp_path, run=3)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert sorted(opened(heard)) == ["b.ndjson", "c.ndjson", "c.ndjson"]
    put(tmp_path, "d.ndjson", 1220, 10)
    result, heard = run_once(text, tmp_path, run=4)
    assert opened(heard) == ["d.ndjson"]
    assert [row[0] for row in both(tmp_path, "counts", "id")] == list(range(1230))
    assert len(both(tmp_path, "counts_kids", "n")) == 1230


def test_a_file_that_turns_out_bad_is_left_out_of_each(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Appended, with loads before and behind it: nothing of it stays anywhere, and nothing else comes twice."""
    monkeypatch.setattr(file_taking, "_HELD_BACK", 1000)
    for number in range(6):
        put(tmp_path, f"a{number}.ndjson.gz", number * 2500, 2500, whole=number != 3, letters=800 if number == 3 else 5)
    text = FILES.format(write="append", more="") + THIRD
    result, heard = run_once(text, tmp_path)
    assert result.outcome is RunOutcome.FAILED and result.error is not None and result.error["code"] == "file.damaged"
    assert heard.codes().count("file.discarded") == 2
    assert [row[0] for row in both(tmp_path, "counts", "id")] == [n for n in range(15000) if not 7500 <= n < 10000]
    put(tmp_path, "a3.ndjson.gz", 7500, 2500)
    result, heard = run_once(text, tmp_path, run=2)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert opened(heard) == ["a3.ndjson.gz"]
    assert [row[0] for row in both(tmp_path, "counts", "id")] == list(range(15000))


@pytest.mark.parametrize(
    ("engine", "by"),
    [("postgres", "full"), ("postgres", "cursor, column: at"), ("postgres", "row_version"), ("sqlite", "full")],
)
def test_ranges_go_on_in_each_where_they_were_cut(tmp_path: Path, engine: str, by: str, request: pytest.FixtureRequest) -> None:
    do, basket_of = made(engine, tmp_path, request)
    ranges = "{column: id, parts: 10, concurrency: 3}"
    feed = f"rows_per_commit: 700\ntables: [{{table: orders, write: upsert, changes: {{by: {by}}}, parallel_read: {ranges}}}]\n"
    text = basket_of(feed).replace("into: marsh", "into: [marsh, third]") + THIRD
    heard = StopsAfter(5)
    result, _ = run_once(text, tmp_path, heard=heard, stop=heard.stop)
    assert result.outcome is RunOutcome.CANCELLED
    do("update orders set v = 1, at = '2026-02-01 00:00:00' where id in (1, 4999)")
    for number in (2, 3):
        result, heard2 = run_once(text, tmp_path, run=number)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert len(both(tmp_path, "orders", "id, v")) == 5000
    do("update orders set v = 2, at = '2026-02-02 00:00:00' where id = 7")
    result, heard2 = run_once(text, tmp_path, run=4)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert sum(v for _, v in both(tmp_path, "orders", "id, v")) == 4
    if by != "full":
        # Both stand at the same place by now: one statement brings what changed to each.
        assert len([one for one in heard2.requests if one.method == "SQL"]) == 1
        assert {one.read for one in result.tables} <= {1, 2, 3}


def test_an_answer_known_by_its_tag_is_asked_for_once(tmp_path: Path) -> None:
    state = {"tag": '"one"', "rows": [{"id": 1}, {"id": 2}]}

    def answer(request: Request) -> Answer:
        if request.headers.get("if-none-match") == state["tag"]:
            return Answer(raw=b"", status=304)
        return Answer(state["rows"], headers={"ETag": str(state["tag"])})

    with serving(answer) as server:
        text = basket(
            server.url,
            "  - {table: things, get: /things, primary_key: id, conditional_requests: true}",
            "tables: [{table: things, write: mirror}]",
        )
        text = text.replace("into: marsh", "into: [marsh, third]") + THIRD
        for number, (status, read) in enumerate([(200, 2), (304, 0), (304, 0)], 1):
            result, heard = run_once(text, tmp_path, run=number)
            assert result.outcome is RunOutcome.SUCCEEDED, result.error
            assert ([one.status for one in heard.requests], [one.read for one in result.tables]) == ([status], [read] * 2)
        state.update(tag='"two"', rows=[{"id": 2}])
        result, heard = run_once(text, tmp_path, run=4)
        assert len(heard.requests) == 1 and both(tmp_path, "things", "id") == [(2,)]


def test_children_of_parents_that_changed_are_asked_for_once(tmp_path: Path) -> None:
    harbour = Harbour(10)
    with serving(harbour) as server:
        text = basket(server.url, FAMILY, "tables: [bags, boardings, sailings]").replace("into: marsh", "into: [marsh, third]")
        assert run_once(text + THIRD, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        assert [len(both(tmp_path, table, "sailing")) for table in ("boardings", "bags")] == [18, 18]
        assert harbour.asked.count("/v1/sailings") == 1 and len(harbour.asked) == len(set(harbour.asked))
        text = text.replace("[bags, ", "[")
        for changed in ([], [3]):
            harbour.asked.clear()
            for number in changed:
                harbour.sailings[number] = {"id": number, "updated_at": "2026-03-02T00:00:00Z"}
            assert run_once(text + THIRD, tmp_path, run=2 + len(changed))[0].outcome is RunOutcome.SUCCEEDED
            assert harbour.asked == ["/v1/sailings", *(f"/v1/sailings/{number}/boardings" for number in changed)]


@pytest.mark.parametrize("engine", ["postgres", "mysql"])
def test_a_log_is_followed_for_each_and_kept_for_the_one_that_is_behind(
    tmp_path: Path, engine: str, request: pytest.FixtureRequest
) -> None:
    do, basket_of = made(engine, tmp_path, request)
    text = basket_of("tables: [{table: orders, changes: {by: cdc}}]\n").replace("into: marsh", "into: [marsh, third]") + THIRD

    def run(number: int, outcome: RunOutcome = RunOutcome.SUCCEEDED) -> Heard:
        result, heard = run_once(text, tmp_path, run=number)
        assert result.outcome is outcome, result.error
        return heard

    def followed(heard: Heard) -> int:
        return len([one for one in heard.requests if one.method == "LOG"])

    run(1)
    do("update orders set v = 1 where id <= 10")
    do("delete from orders where id = 11")
    assert followed(run(2)) == 1
    assert len(both(tmp_path, "orders", "id, v")) == 4999
    whole = (tmp_path / "third.db").read_bytes()
    (tmp_path / "third.db").write_bytes(b"no database at all" * 300)
    for number in (3, 4):  # twice: what is confirmed in the first would be gone in the second
        do(f"update orders set v = {number} where id between 20 and 30")
        do(f"delete from orders where id = 1{number}")
        assert followed(run(number, RunOutcome.FAILED)) == 1
    (tmp_path / "third.db").write_bytes(whole)
    do("update orders set id = 9000 where id = 40")
    assert followed(run(5)) == 2
    found = both(tmp_path, "orders", "id, v")
    assert len(found) == 4997 and (9000, 0) in found and sum(v for _, v in found) == 10 + 11 * 4
    do("update orders set v = 7 where id = 50")
    assert followed(run(6)) == 1
    assert (50, 7) in both(tmp_path, "orders", "id, v")
