"""Files into each of the warehouses: the same rows, the same books, whatever the engine."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from reedbasket.core.runs import RunOutcome
from tests.support.feeds import Heard, run_once
from tests.support.warehouses import Place

FEED = """source: test
type: files
path: {folder}
time_zone: Europe/Amsterdam
---
warehouse: marsh
{place}
---
feed: test
from: test
into: marsh
rows_per_commit: {rows_per_commit}
changes: {{by: files, stable_for: 0s}}
tables:
{tables}"""


class Files:
    def __init__(self, place: Place, folder: Path) -> None:
        self.place, self.folder = place, folder

    def put(self, path: str, content: str | pa.Table, age: float = 60) -> None:
        whole = self.folder / path
        whole.parent.mkdir(parents=True, exist_ok=True)
        if isinstance(content, str):
            whole.write_text(content)
        else:
            pq.write_table(content, whole)
        os.utime(whole, (time.time() - age, time.time() - age))

    def run(self, tables: str, rows_per_commit: int = 100_000) -> Heard:
        text = FEED.format(folder=self.folder, place=self.place.as_yaml, tables=tables, rows_per_commit=rows_per_commit)
        result, heard = run_once(text, self.place.folder)
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        return heard

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        return [tuple(row) for row in self.place.ask(sql)]


@pytest.fixture
def files(place: Place, tmp_path: Path) -> Files:
    return Files(place, tmp_path / "in")


def test_rows_of_files_are_replaced_with_all_below_them(files: Files) -> None:
    tables = '  - table: t\n    files: "<n:d>.ndjson"\n    derived: {table: sums, query: "select n, count(*) as many from t group by n"}\n'
    for number in range(6):
        rows = [{"id": row, "kids": [{"k": row, "deep": [{"d": 1}, {"d": 2}]}]} for row in range(number + 1)]
        files.put(f"{number}.ndjson", "".join(json.dumps(row) + "\n" for row in rows))
    heard = files.run(tables, rows_per_commit=4)
    assert len({line.load for line in heard.ledger if line.table == "t"}) > 2
    assert files.ask("select n, count(*) from t group by n order by n") == [(n, n + 1) for n in range(6)]
    assert files.run(tables).ledger == []
    files.put("3.ndjson", '{"id": 9, "kids": [{"k": 99, "deep": [{"d": 7}]}]}\n', age=30)
    files.put("5.ndjson", "", age=30)
    files.put("7.ndjson", '{"id": 1, "kids": []}\n')
    files.run(tables)
    assert files.ask("select n, count(*) from t group by n order by n") == [(0, 1), (1, 2), (2, 3), (3, 1), (4, 5), (7, 1)]
    assert files.ask("select count(*) from t_kids") == [(1 + 2 + 3 + 1 + 5,)]
    assert files.ask("select count(*), min(d), max(d) from t_kids_deep") == [((1 + 2 + 3 + 5) * 2 + 1, 1, 7)]
    assert files.ask("select n, many from sums order by n") == [(0, 1), (1, 2), (2, 3), (3, 1), (4, 5), (7, 1)]
    assert files.ask('select path, state, "rows" from _rb_file where number = 6') == [("5.ndjson", "loaded", 0)]
    # What the feed says no more goes, also where no row came.
    assert "table.derived" in files.run('  - table: t\n    files: "<n:d>.ndjson"\n').codes()
    assert files.ask("select count(*) from _rb_derived") == [(0,)]


def test_text_is_typed_alike_and_widens_alike(files: Files) -> None:
    tables = (
        "  - table: t\n    files: '*.csv'\n    primary_key: id\n    changes: {by: files, stable_for: 0s, changed: replace}\n"
    )
    files.put("1.csv", "id,n,amount,day,seen,flag,code\n1,5,0.10,2026-07-01,2026-07-01 06:00:00,true,007\n2,,12.5,,,false,8\n")
    files.run(tables)
    files.put("2.csv", "code,id,n,amount,extra\nx,2,2.5,7.125,new\n9,3,7,1,\n")
    files.run(tables)
    found = files.ask(f"select id, {files.place.text('n')}, code, extra from t order by id")
    assert [(r[0], r[1] and float(r[1]), *r[2:]) for r in found] == [
        (1, 5.0, "007", None), (2, 2.5, "x", "new"), (3, 7.0, "9", None),
    ]  # fmt: skip
    seen = str(files.ask(f"select {files.place.text('seen')} from t where id = 1")[0][0])
    assert seen.startswith("2026-07-01 04:00:00")  # six in the morning of the source's own zone
    files.put("2.csv", "code,id,n,amount,extra\n9,3,8,1,\n", age=30)
    files.run(tables)
    assert files.ask("select id from t order by id") == [(1,), (3,)]


def test_columns_with_records_inside_turn_up_in_a_later_file(files: Files) -> None:
    """The first load of flat columns is built on the side; a file that is not flat has it begin again."""
    files.put("1.parquet", pa.table({"id": [1, 2]}))
    files.put("2.parquet", pa.table({"id": [3], "kids": [[{"k": 1}, {"k": 2}]]}))
    heard = files.run("  - table: t\n    files: '*.parquet'\n")
    assert "file.discarded" in heard.codes()
    assert files.ask("select id from t order by id") == [(1,), (2,), (3,)]
    assert files.ask("select k from t_kids order by k") == [(1,), (2,)]


def test_a_large_file_without_a_key_is_built_on_the_side_in_its_order(files: Files) -> None:
    rows = 30_000
    files.put("1.csv", "n,text\n" + "".join(f"{n},{'t' * (n % 50)}\n" for n in range(rows)))
    heard = files.run("  - table: t\n    files: '*.csv'\n")
    assert [(line.read, line.inserted, line.removed) for line in heard.ledger] == [(rows, rows, 0)]
    assert files.ask("select count(*), count(distinct n), min(_rb_file), max(_rb_file) from t") == [(rows, rows, 1, 1)]
    files.put("2.csv", "n,text\n-1,x\n")
    files.run("  - table: t\n    files: '*.csv'\n")
    assert files.ask("select count(*), min(n) from t") == [(rows + 1, -1)]
