"""Parquet files that a DuckDB warehouse reads by itself: what is there afterwards is what columns would have brought."""

from __future__ import annotations

import os
import time
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from reedbasket.core.runs import RunOutcome
from reedbasket.core.sources.files.formats import parquet_whole
from reedbasket.core.sources.files.stores.folder import FolderStore
from reedbasket.core.warehouses.duckdb.shadow_table import DuckShadowBuild
from tests.support.feeds import Heard, run_once

BASKET = """source: test
on: files
path: in
---
warehouse: marsh
on: duckdb
path: marsh.duckdb
---
feed: test
from: test
into: marsh
defaults: {{changes: {{by: files, settle: 0s, changed: {changed}}}}}
tables: {{things: {{files: "*.parquet", rename: {{small: tiny}}{more}}}}}
"""
DAY, NOW = date(2026, 3, 1), datetime(2026, 3, 1, 6, 30, 1, 5000, UTC)


def table(first: int, count: int, **columns: Any) -> pa.Table:
    made = {
        "Id": pa.array(range(first, first + count), pa.int64()),
        "small": pa.array([None if n % 3 == 0 else n % 100 for n in range(count)], pa.int8()),
        "Weight": pa.array([n / 7 for n in range(count)], pa.float32()),
        "ok": pa.array([n % 2 == 0 for n in range(count)]),
        "name": pa.array([f"ünder {n}\x00" if n == 1 else f"name {n}" for n in range(count)]),
        "amount": pa.array([Decimal(n) / 100 for n in range(count)], pa.decimal128(9, 2)),
        "day": pa.array([DAY] * count, pa.date32()),
        "made at": pa.array([NOW] * count, pa.timestamp("ms", "Europe/Paris")),
    }
    return pa.table(made | columns)


def put(folder: Path, name: str, rows: pa.Table) -> Path:
    path = folder / "in" / name
    path.parent.mkdir(exist_ok=True)
    pq.write_table(rows, path)
    os.utime(path, (time.time() - 60, time.time() - 60))
    return path


def rows(folder: Path) -> list[tuple[Any, ...]]:
    with duckdb.connect(str(folder / "marsh.duckdb"), read_only=True) as db:
        db.execute("set timezone = 'UTC'")
        described = db.execute("describe things").fetchall()
        columns = ", ".join(f'"{c[0]}"::varchar' for c in described if not c[0].startswith("_rb_") or c[0] == "_rb_file")
        return [
            tuple((c[0], c[1]) for c in described),
            *sorted(db.execute(f"select {columns} from things").fetchall(), key=repr),
        ]


def run(
    folder: Path, monkeypatch: pytest.MonkeyPatch, more: str = "", changed: str = "merge", straight: bool = True
) -> tuple[Any, Heard, int]:
    """(result, what was heard, how many files the warehouse read by itself)"""
    taken: list[str] = []
    take = DuckShadowBuild.take_file
    with monkeypatch.context() as patched:
        patched.setattr(DuckShadowBuild, "take_file", lambda self, *given: (taken.append(given[1].path), take(self, *given)))
        if not straight:
            patched.setattr(DuckShadowBuild, "takes_files", False)
        result, heard = run_once(BASKET.format(more=more, changed=changed), folder)
    return result, heard, len(taken)


@pytest.mark.parametrize(
    ("more", "changed"), [("", "append"), (", key: Id", "merge"), (", key: Id", "replace"), ("", "replace")]
)
def test_what_the_warehouse_reads_by_itself_is_what_columns_bring(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, more: str, changed: str
) -> None:
    found = []
    for straight in (True, False):
        folder = tmp_path / str(straight)
        folder.mkdir()
        put(folder, "a.parquet", table(0, 5000))
        put(folder, "b.parquet", table(4990, 200))  # ten keys come again
        result, heard, taken = run(folder, monkeypatch, more, changed, straight)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        assert taken == (2 if straight else 0)
        (line,) = heard.ledger
        assert (line.read, line.inserted, line.superseded) == (5200, 5200 - 10 * bool(more), 10 * bool(more))
        assert [one.url for one in heard.requests if one.method == "FILE"] == ["a.parquet", "b.parquet"]
        put(folder, "c.parquet", table(6000, 10, extra=pa.array(["x"] * 10)))
        assert run(folder, monkeypatch, more, changed, straight)[0].outcome is RunOutcome.SUCCEEDED
        found.append(rows(folder))
    assert found[0] == found[1] and len(found[0]) == 1 + 5210 - 10 * bool(more)


LOOKED_AT = {
    "a time without its zone": table(0, 3).append_column("at", pa.array([datetime(2026, 1, 1)] * 3)),
    "a time finer than ours": table(0, 3).append_column("at", pa.array([1, 2, 3], pa.timestamp("ns", "UTC"))),
    "a day beyond ours": table(0, 3).append_column("at", pa.array([3_000_000, 1, 2], pa.int32()).cast(pa.date32())),
    "records inside": table(0, 3).append_column("kids", pa.array([[{"n": 1}]] * 3)),
    "a key that is null": table(0, 3).set_column(0, "Id", pa.array([1, None, 3], pa.int64())),
    "nothing but nulls": table(0, 3).append_column("no", pa.nulls(3)),
}


@pytest.mark.parametrize("what", LOOKED_AT)
def test_what_has_to_be_looked_at_comes_in_columns(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    put(tmp_path, "a.parquet", LOOKED_AT[what])
    result, heard, taken = run(tmp_path, monkeypatch, ", key: Id")
    assert (result.outcome, taken) == (RunOutcome.SUCCEEDED, 0), result.error
    assert len(heard.rejected) == ("beyond" in what or "key" in what) and len(rows(tmp_path)) == 4 - len(heard.rejected)


def test_a_large_file_in_one_piece_comes_in_columns(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(parquet_whole, "LARGEST_PIECE", 2000)
    for pieces, expected in ((3000, 0), (1500, 1)):
        folder = tmp_path / str(pieces)
        folder.mkdir()
        pq.write_table(table(0, 3000), put(folder, "a.parquet", table(0, 1)), row_group_size=pieces)
        result, _, taken = run(folder, monkeypatch, changed="append")
        assert (result.outcome, taken, len(rows(folder))) == (RunOutcome.SUCCEEDED, expected, 3001), result.error


@pytest.mark.parametrize("key", ["", ", key: Id"])
def test_a_file_that_the_warehouse_cannot_read_leaves_the_others_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, key: str
) -> None:
    """Its end is whole, which says what is in it; what is in it is not."""
    put(tmp_path, "a.parquet", table(0, 3000))
    path = put(tmp_path, "b.parquet", table(3000, 3000))
    content = bytearray(path.read_bytes())
    content[20:400] = b"\xff" * 380
    path.write_bytes(content)
    put(tmp_path, "c.parquet", table(6000, 5))
    result, heard, taken = run(tmp_path, monkeypatch, key, changed="append")
    assert taken >= 2 and "table.in_columns" in heard.codes()
    assert result.error is not None and (result.error["code"], "b.parquet" in result.error["found"]) == ("file.damaged", True)
    assert len(rows(tmp_path)) == 1 + 3005 and sum(line.inserted for line in heard.ledger) == 3005


def test_a_file_that_went_away_since_it_was_listed_is_passed_over(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(tmp_path, "a.parquet", table(0, 10))
    path = put(tmp_path, "b.parquet", table(10, 10))
    local = FolderStore.local

    def gone(self: FolderStore, info: Any) -> Any:
        path.unlink(missing_ok=True)
        return local(self, info)

    monkeypatch.setattr(FolderStore, "local", gone)
    result, heard, taken = run(tmp_path, monkeypatch, changed="append")
    assert (result.outcome, taken, len(rows(tmp_path))) == (RunOutcome.SUCCEEDED, 0, 11), result.error
    assert "file.passed_over" in heard.codes()


def test_a_file_that_is_written_over_meanwhile_is_read_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = put(tmp_path, "a.parquet", table(0, 500))
    take = DuckShadowBuild.swap_in

    def late(self: DuckShadowBuild, *given: Any) -> Any:
        if len(pq.read_table(path)) == 500:
            pq.write_table(table(0, 700), path)  # in place, into the file that is open
        return take(self, *given)

    monkeypatch.setattr(DuckShadowBuild, "swap_in", late)
    result, heard, _ = run(tmp_path, monkeypatch, changed="append")
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert "table.in_columns" in heard.codes() and len(rows(tmp_path)) == 701
