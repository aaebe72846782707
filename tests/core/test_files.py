"""Folders of files as sources, into each warehouse: each file once, whole, and again where it changed."""

from __future__ import annotations

import gzip
import io
import json
import os
import time
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome, RunResult
from reedbasket.core.spec import load_texts
from reedbasket.core.spec.pattern import Pattern
from reedbasket.core.warehouses import open_warehouse
from tests.support.feeds import Heard, order_for, run_once, table_rows

BASKET = """
source: test
type: files
path: in
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: marsh
changes: {by: files, stable_for: 0s}
tables:
"""
COUNTS = """  - table: counts
    files: "<landing>/counts-<hour:%Y%m%d%H>.ndjson*"
"""


class Folder:
    """Files of a source below a folder, and runs over them."""

    def __init__(self, tmp_path: Path) -> None:
        self.data = tmp_path
        (tmp_path / "in").mkdir()

    def put(self, path: str, content: str | bytes, age: float = 60) -> Path:
        whole = self.data / "in" / path
        whole.parent.mkdir(parents=True, exist_ok=True)
        whole.write_bytes(content if isinstance(content, bytes) else content.encode())
        os.utime(whole, (time.time() - age, time.time() - age))
        return whole

    def run(self, tables: str, basket: str = BASKET, **how: Any) -> tuple[RunResult, Heard]:
        return run_once(basket + tables, self.data, **how)

    def good(self, tables: str, basket: str = BASKET, **how: Any) -> Heard:
        result, heard = self.run(tables, basket, **how)
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        return heard

    def rows(self, table: str) -> list[tuple[Any, ...]]:
        found = [tuple(v for k, v in row.items() if not k.startswith("_rb_")) for row in table_rows(self.data, table)]
        return sorted(found, key=repr)

    def files(self, table: str, basket: str) -> dict[str, Any]:
        order = order_for(basket)
        warehouse = open_warehouse(order.warehouse, Places.anywhere(self.data), lambda name: name)
        try:
            return {line.path: line for line in warehouse.files("test", table)}
        finally:
            warehouse.close()


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    return Folder(tmp_path)


def lines(*records: dict[str, Any]) -> str:
    return "".join(json.dumps(record) + "\n" for record in records)


def test_new_files_are_taken_once_and_changed_ones_replace_their_rows(folder: Folder) -> None:
    folder.put("osier/counts-2026030106.ndjson", lines({"gate": 1, "n": 5}, {"gate": 2, "n": 7}))
    folder.put("tansy/counts-2026030106.ndjson.gz", gzip.compress(lines({"gate": 1, "n": 9}).encode()))
    folder.put("osier/readme.md", "not a count")
    heard = folder.good(COUNTS)
    assert "file.ignored" in heard.codes()
    hour = "2026-03-01 06:00:00.000000Z"
    assert folder.rows("counts") == [(1, 5, "osier", hour), (1, 9, "tansy", hour), (2, 7, "osier", hour)]
    assert folder.good(COUNTS).ledger == []
    # One changes, one is new, one goes: the rows of what changed are replaced, of what went they stay.
    folder.put("osier/counts-2026030106.ndjson", lines({"gate": 1, "n": 6}))
    folder.put("osier/counts-2026030107.ndjson", lines({"gate": 3, "n": 1}))
    (folder.data / "in/tansy/counts-2026030106.ndjson.gz").unlink()
    heard = folder.good(COUNTS)
    assert [(line.read, line.inserted, line.removed) for line in heard.ledger] == [(2, 2, 2)]
    assert [row[:3] for row in folder.rows("counts")] == [(1, 6, "osier"), (1, 9, "tansy"), (3, 1, "osier")]
    states = {path: (line.state, line.rows) for path, line in folder.files("counts", BASKET + COUNTS).items()}
    assert states == {
        "osier/counts-2026030106.ndjson": ("loaded", 1), "osier/counts-2026030107.ndjson": ("loaded", 1),
        "tansy/counts-2026030106.ndjson.gz": ("missing", 1),
    }  # fmt: skip


@pytest.mark.parametrize(
    ("changed", "expected"),
    [
        ("append", [("a", 1), ("a", 3), ("b", 2)]),
        ("ignore", [("a", 1), ("b", 2)]),
        ("replace", [("a", 3)]),
    ],
)
def test_what_becomes_of_a_changed_file(folder: Folder, changed: str, expected: list[Any]) -> None:
    tables = f"  - table: t\n    files: '*.csv'\n    changes: {{by: files, stable_for: 0s, changed: {changed}}}\n"
    folder.put("one.csv", "k,v\na,1\nb,2\n")
    folder.good(tables)
    folder.put("one.csv", "k,v\na,3\n", age=30)
    folder.good(tables)
    assert folder.rows("t") == expected
    assert folder.good(tables).ledger == []


def test_merged_by_key_a_file_brings_newer_rows_and_with_replace_drops_its_own(folder: Folder) -> None:
    tables = (
        "  - table: t\n    files: '*.csv'\n    primary_key: k\n    changes: {by: files, stable_for: 0s, changed: replace}\n"
    )
    folder.put("1.csv", "k,v\na,1\nb,2\n")
    folder.put("2.csv", "k,v\nb,5\nc,6\n")
    folder.good(tables)
    assert folder.rows("t") == [("a", 1), ("b", 5), ("c", 6)]
    folder.put("2.csv", "k,v\nc,7\n", age=30)
    folder.good(tables)
    assert folder.rows("t") == [("a", 1), ("c", 7)]


def test_children_of_a_replaced_file_go_with_their_rows(folder: Folder) -> None:
    tables = "  - table: t\n    files: '*.ndjson'\n"
    folder.put("a.ndjson", lines({"id": 1, "gates": [{"g": 1, "turns": [{"x": 1}]}, {"g": 2}]}))
    folder.put("b.ndjson", lines({"id": 2, "gates": [{"g": 9, "turns": [{"x": 9}]}]}))
    folder.good(tables)
    folder.put("a.ndjson", lines({"id": 1, "gates": [{"g": 3}]}), age=30)
    folder.good(tables)
    assert sorted(row["g"] for row in table_rows(folder.data, "t_gates")) == [3, 9]
    assert [row["x"] for row in table_rows(folder.data, "t_gates_turns")] == [9]


def test_a_file_waits_until_it_is_still_or_has_its_marker(folder: Folder) -> None:
    tables = "  - table: t\n    files: '*.csv'\n    changes: {by: files, stable_for: 20s}\n"
    folder.put("a.csv", "k\n1\n", age=60)
    folder.put("b.csv", "k\n2\n", age=2)
    heard = folder.good(tables)
    assert folder.rows("t") == [(1,)] and any("b.csv changed too recently" in words for _, _, words in heard.lines)
    folder.good(tables, started=datetime.fromtimestamp(time.time() + 30, UTC))
    assert folder.rows("t") == [(1,), (2,)]
    marked = "  - table: m\n    files: '*.csv'\n    changes: {by: files, ready_file: 'done/{name}.ok'}\n"
    folder.put("done/b.csv.ok", "")
    text = BASKET + marked.replace("'*.csv'", "'**/*.csv'")
    run_once(text, folder.data)
    assert folder.rows("m") == [(2,)]


BAD: list[tuple[str, bytes, str]] = [
    ("cut.ndjson.gz", gzip.compress(lines(*({"k": n} for n in range(5_000))).encode())[:-30], "file.damaged"),
    ("bomb.csv.gz", gzip.compress(b"k\n" + (b"0" * 9_999 + b"\n") * 40_000), "file.too_large"),
    ("latin.csv", "k\nä\n".encode() * 50_000 + b"\xff\n", "file.encoding"),
    ("twice.csv", b"k,k\n1,2\n", "file.unreadable"),
    ("quote.csv", b'k\n"never closed\n1\n', "file.damaged"),
    ("cut.ndjson", b'{"k": 1}\n{"k": ', "file.damaged"),
    ("cut.csv", b"k,v\n1,2\n3", "file.damaged"),
    ("nothing.parquet", b"PAR1 and no more", "file.damaged"),
    ("nothing.zip", b"PK no more", "file.damaged"),
]


@pytest.mark.slow
@pytest.mark.parametrize(("name", "content", "code"), BAD, ids=[name for name, _, _ in BAD])
def test_a_bad_file_stops_no_other_and_leaves_nothing_behind(folder: Folder, name: str, content: bytes, code: str) -> None:
    folder.put("a.csv", "k\n1\n")
    folder.put(name, content)
    folder.put("z.csv", "k\n2\n")
    result, _ = folder.run("  - table: t\n    files: '*.*'\n")
    assert result.outcome == RunOutcome.FAILED and result.error and result.error["code"] == code, result.error
    assert name in result.error["found"]
    assert [row["k"] for row in table_rows(folder.data, "t")] in ([1, 2], ["1", "2"])
    assert folder.files("t", BASKET + "  - {table: t, files: '*.*'}\n")[name].state == "failed"
    again, heard = folder.run(
        "  - table: t\n    files: '*.*'\n"
    )  # not tried again until it changes, and no run is green until then
    assert again.error and name in again.error["found"] and name not in [seen.url for seen in heard.requests]
    assert any(name in words and "could not be read before" in words for _, _, words in heard.lines)
    folder.put(name, b"", age=20)
    folder.good("  - table: t\n    files: '*.*'\n")


def test_a_record_out_of_an_archive_says_which_member_and_line(folder: Folder) -> None:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        archive.writestr("a.csv", "k,n\n1,1\n")
        archive.writestr("b.csv", "k,n\n2,2\n3,x\n")
    folder.put("both.zip", made.getvalue())
    folder.put("plain.csv", "k,n\n9,9\n")
    tables = "  - table: t\n    files: '*.*'\n    cast: {n: int64}\n    file_columns: {line: at, member: inside}\n"
    heard = folder.good(tables)
    rows = sorted((row["k"], row["at"], row["inside"]) for row in table_rows(folder.data, "t"))
    assert rows == [(1, 2, "a.csv"), (2, 2, "b.csv"), (9, 2, None)]
    assert ["both.zip/b.csv, line 3" in reject.message for reject in heard.rejected] == [True]


def test_a_mended_definition_tries_again_what_failed_under_the_old_one(folder: Folder) -> None:
    folder.put("a.csv", "k\nä\n".encode("latin-1"))
    result, _ = folder.run("  - table: t\n    files: '*.csv'\n")
    assert result.error and result.error["code"] == "file.encoding"
    folder.good("  - table: t\n    files: '*.csv'\n    format: {type: csv, encoding: latin-1}\n")
    assert folder.rows("t") == [("ä",)]


@pytest.mark.slow
def test_a_large_bad_file_goes_out_again_after_some_of_it_was_staged(folder: Folder) -> None:
    record = {"text": "some words " * 20, "n": 1}
    folder.put("a.ndjson", lines({"n": 0}))
    folder.put("b.ndjson", lines(*([record] * 60_000)).encode() + b"\x00" * 5 + b'{"n": 2\n')
    whole = gzip.compress(lines(*([record] * 60_000)).encode(), 1)
    folder.put("c.ndjson.gz", whole[:-9])
    folder.put("d.ndjson", lines({"n": 3}))
    result, heard = folder.run("  - table: t\n    files: '*.ndjson*'\n")
    assert result.error and result.error["code"] == "file.damaged" and "c.ndjson.gz" in result.error["found"]
    assert "file.discarded" in heard.codes()
    assert len(folder.rows("t")) == 60_002
    assert sum(line.inserted for line in heard.ledger) == 60_002
    assert {reject.record["line"] for reject in heard.rejected} == {60_001}


def test_bad_lines_are_rejects_with_their_place(folder: Folder) -> None:
    folder.put("a.csv", 'k,v,at\n1,5,2026-03-01\n2\n"3\n",x,2026-03-02\n\n4,7,soon\n')
    tables = "  - table: t\n    files: '*.csv'\n    cast: {v: int64, at: date}\n"
    heard = folder.good(tables)
    assert sorted((r.message.split(":")[0], r.code) for r in heard.rejected) == [
        ("a.csv, line 3", "record.wrong_field_count"), ("a.csv, line 4", "value.not_castable"), ("a.csv, line 7", "value.not_castable"),
    ]  # fmt: skip
    assert [row[1:] for row in folder.rows("t")] == [(5, "2026-03-01")]


def test_columns_that_move_come_and_go(folder: Folder) -> None:
    tables = "  - table: t\n    files: '*.csv'\n    file_columns: {path: source, line: at_line}\n"
    folder.put("1.csv", "﻿id,price,note\r\n1,0.10,007\r\n2,12.345,\r\n")
    folder.put("2.csv", "note,id\nx,3\n")
    folder.put("3.csv", "id,price,note,more\n4,1,y,true\n")
    folder.put("4.csv", "id,price,note\n")
    folder.put("5.csv", "")
    folder.put("6.csv", "id,price,note\n05,about 3,z\n")
    heard = folder.good(tables)
    found = [tuple(r[c] for c in ("id", "price", "note", "more", "source", "at_line")) for r in table_rows(folder.data, "t")]
    assert sorted(found, key=repr) == [
        ("05", "about 3", "z", None, "6.csv", 2), ("1", "0.1", "007", None, "1.csv", 2), ("2", "12.345", None, None, "1.csv", 3),
        ("3", None, "x", None, "2.csv", 2), ("4", "1", "y", 1, "3.csv", 2),
    ]  # fmt: skip
    assert sum(line.read for line in heard.ledger) == 5 and len(folder.files("t", BASKET + tables)) == 6


def test_a_feed_that_holds_to_its_types_rejects_what_does_not_fit(folder: Folder) -> None:
    basket = BASKET.replace("into: marsh\n", "into: marsh\non_drift: {changed_type: reject}\n")
    tables = "  - table: t\n    files: '*.csv'\n"
    folder.put("1.csv", "k,n\n1,5\n2,6\n")
    folder.good(tables, basket)
    folder.put("2.csv", "k,n\n3,7\n4,many\n5,08\n6,9\n")
    folder.put("3.csv", "k,n\n7,10\n")
    heard = folder.good(tables, basket)
    assert [reject.message.split(":")[0] for reject in heard.rejected] == ["2.csv, line 3", "2.csv, line 4"]
    assert folder.rows("t") == [(1, 5), (2, 6), (3, 7), (6, 9), (7, 10)]


def test_a_view_and_a_table_on_top_follow_what_is_below(folder: Folder) -> None:
    def tables(made: str, query: str) -> str:
        return f"  - table: raw\n    files: '*.csv'\n    derived: {{{made}: clean, query: \"{query}\"}}\n"

    folder.put("1.csv", "k,v\na,1\na,2\n")
    heard = folder.good(tables("table", "select k, sum(v) as v from raw group by k"))
    assert "table.derived" in heard.codes() and folder.rows("clean") == [("a", 3)]
    assert "table.derived" not in folder.good(tables("table", "select k, sum(v) as v from raw group by k")).codes()
    folder.put("2.csv", "k,v\na,4\n")
    folder.good(tables("table", "select k, sum(v) as v from raw group by k"))
    assert folder.rows("clean") == [("a", 7)]
    result, _ = folder.run(tables("view", "select nothing from raw"))
    assert result.error and result.error["code"] == "warehouse.derived_refused" and folder.rows("clean") == [("a", 7)]
    folder.good(tables("view", "select max(v) as v from raw"))
    assert folder.rows("clean") == [(4,)]


def test_patterns() -> None:
    found = Pattern("<landing>/counts-<hour:%Y%m%d%H>.ndjson.gz")
    assert found.values("osier/counts-2026030106.ndjson.gz") == {
        "landing": "osier",
        "hour": datetime(2026, 3, 1, 6, tzinfo=UTC),
    }
    assert found.values("osier/counts-2026990106.ndjson.gz") is None and not found.matches("a/b/counts-2026030106.ndjson.gz")
    assert [Pattern("a/**/[!x]?.csv").matches(p) for p in ("a/b1.csv", "a/c/d/b1.csv", "a/x1.csv", "b/b1.csv")] == [
        True, True, False, False,
    ]  # fmt: skip
    hidden = [
        (p, Pattern(p).matches(path)) for p, path in (("*.csv", ".a.csv"), ("**/*.csv", ".x/a.csv"), ("**/*.csv", "x/.a.csv"))
    ]
    assert (
        not any(found for _, found in hidden) and Pattern(".*.csv").matches(".a.csv") and Pattern("**/*.csv").matches("x/a.csv")
    )
    assert Pattern("year=<y:d>/<y>.csv").values("year=26/26.csv") == {"y": 26} and Pattern("in/x*.csv").under == "in"
    for bad in ("/abs.csv", "a/../b", "<A>.csv", "{day}.csv", "<day:%Q>.csv"):
        with pytest.raises(ValueError):
            Pattern(bad)


def test_mistakes_are_told_at_apply() -> None:
    tables = """  - a
  - {table: b, files: "/x.csv"}
  - {table: c, files: "*.csv", write: upsert}
  - {table: d, files: "*.csv", write: replace}
  - {table: t, as: e, files: "*.csv"}
  - {table: f, files: "*.png", copy: {to: nowhere}, primary_key: x}
  - {table: g, files: "*.csv", format: {type: csv, delimiter: "ab"}}
"""
    with pytest.raises(DefinitionError) as caught:
        load_texts({"b.yaml": BASKET + tables})
    assert len(caught.value.details) == 1 and caught.value.details[0]["code"] == "definition.bad_value"
    with pytest.raises(DefinitionError) as caught:
        load_texts({"b.yaml": BASKET + tables.replace('{type: csv, delimiter: "ab"}', "csv")})
    assert sorted(d["code"].removeprefix("definition.") for d in caught.value.details) == [
        "bad_pattern", "bad_value", "bad_value", "no_files", "no_key", "replace_by_files", "unknown_source",
    ]  # fmt: skip
