"""A run that is given a window: what it asks for, that it takes it once, and that it leaves the cursors alone."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome, RunResult, resolve, run_feed
from reedbasket.core.spec import load_texts
from tests.support.feeds import Heard, basket_text, run_context_for, table_rows
from tests.support.source import Changing, serving

ROWS = [{"id": n, "updated_at": f"2026-03-{1 + n // 4:02d}T{6 * (n % 4):02d}:00:00Z", "v": n} for n in range(16)]


def day(number: int) -> datetime:
    return datetime(2026, 3, number, tzinfo=UTC)


def run_window(text: str, folder: Path, first: int, last: int, *, backfill: int = 0, run: int = 1) -> tuple[RunResult, Heard]:
    heard = Heard()
    order = resolve(
        load_texts({"b.yaml": text}),
        "test",
        run=run,
        version=1,
        started=datetime.now(UTC),
        window=(day(first), day(last)),
        backfill=backfill,
    )
    return run_feed(order, run_context_for(order, folder), listener=heard, clock=lambda: datetime.now(UTC)), heard


def cursor_of(folder: Path) -> Any:
    db = sqlite3.connect(folder / "marsh.db")
    try:
        return db.execute("select value from _rb_cursor").fetchone()[0]
    finally:
        db.close()


@pytest.mark.parametrize("write", ["upsert", "append"])
def test_each_window_of_an_api_comes_in_once_whatever_order(tmp_path: Path, write: str) -> None:
    with serving(Changing(list(ROWS))) as source:
        text = basket_text(source.url, write=write)
        for run, first in enumerate((3, 1, 2, 1, 4, 3), 1):
            result, heard = run_window(text, tmp_path, first, first + 1, run=run)
            assert result.outcome is RunOutcome.SUCCEEDED, result.error
            assert ("window.already_loaded" in heard.codes()) == (run in (4, 6))
        asked = [request.query["since"] for request in source.requests if "since" in request.query]
    assert asked[0] == "2026-03-03T00:00:00Z"
    assert sorted(r["v"] for r in table_rows(tmp_path, "things")) == list(range(16))
    assert cursor_of(tmp_path) is None


def test_a_backfill_leaves_the_cursor_where_it_is(tmp_path: Path) -> None:
    with serving(Changing(list(ROWS))) as source:
        text = basket_text(source.url)
        order = resolve(load_texts({"b.yaml": text}), "test", run=1, version=1, started=datetime.now(UTC))
        run_feed(order, run_context_for(order, tmp_path), listener=Heard(), clock=lambda: datetime.now(UTC))
        before = cursor_of(tmp_path)
        result, heard = run_window(text, tmp_path, 2, 3, backfill=1, run=2)
        assert (result.outcome, [(line.read, line.unchanged) for line in heard.ledger]) == (RunOutcome.SUCCEEDED, [(4, 4)])
        # In its own backfill it counts as taken; in another it comes once more.
        assert "window.already_loaded" in run_window(text, tmp_path, 2, 3, backfill=1, run=3)[1].codes()
        assert [line.read for line in run_window(text, tmp_path, 2, 3, backfill=2, run=4)[1].ledger] == [4]
    assert cursor_of(tmp_path) == before == "2026-03-04T18:00:00Z"


def test_an_empty_window_counts_as_taken(tmp_path: Path) -> None:
    with serving(Changing(list(ROWS))) as source:
        text = basket_text(source.url)
        run_window(text, tmp_path, 20, 21)
        result, heard = run_window(text, tmp_path, 20, 21, run=2)
    assert (result.outcome, heard.codes()) == (RunOutcome.SUCCEEDED, ["window.already_loaded", "table.done"])


DATABASE = """
source: test
type: sqlite
path: {path}
settings: {{region: north}}
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: marsh
variants: [{{least: 2}}]
tables:
  - {{table: readings, changes: {{by: cursor, column: at}}, primary_key: id}}
  - table: large
    query: "select * from readings where id >= :variant_least and datetime(at) >= datetime(:window_from)
            and datetime(at) < datetime(:window_until)"
    primary_key: id
    changes: {{by: full}}
    write: upsert
  - {{table: readings, as: numbers, changes: {{by: cursor, column: id}}, primary_key: id}}
"""


def test_a_database_is_asked_for_both_ends(tmp_path: Path) -> None:
    db = sqlite3.connect(tmp_path / "dock.db")
    db.execute("create table readings (id integer primary key, at timestamp)")
    db.executemany(
        "insert into readings values (?, ?)", [(r["id"], r["updated_at"].replace("T", " ").rstrip("Z")) for r in ROWS]
    )
    db.commit()
    db.close()
    text = DATABASE.format(path=tmp_path / "dock.db")
    result, heard = run_window(text, tmp_path, 1, 2, backfill=1)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    statements = {request.url.replace("\n", " ") for request in heard.requests}
    assert any('"at" >= :window_from and "at" < :window_until' in statement for statement in statements)
    assert [r["id"] for r in table_rows(tmp_path, "readings")] == [0, 1, 2, 3]
    assert [r["id"] for r in table_rows(tmp_path, "large")] == [2, 3]
    # A cursor of numbers knows no time: beside the feed's own runs it is left out, in them it goes on as ever.
    assert "window.not_of_this_table" in heard.codes()
    _, heard = run_window(text, tmp_path, 2, 3, run=2)
    assert {line.source_table: line.read for line in heard.ledger} == {"readings": 4, "large": 4, "numbers": 16}
