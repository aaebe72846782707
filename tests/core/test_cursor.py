"""Cursors: equal values at page and run boundaries, overlap, late rows, bounds."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from reedbasket.core.runs import RunOutcome, run_feed
from reedbasket.core.runs.execution.replay import Replayed
from tests.support.feeds import Heard, basket_text, order_for, run_context_for, run_once, table_rows
from tests.support.source import Changing, serving

SAME = "2026-03-01T06:00:00Z"


def thing(number: int, at: str = SAME, **more: Any) -> dict[str, Any]:
    return {"id": f"T{number:04d}", "n": number, "updated_at": at, **more}


def ids(folder: Path) -> list[str]:
    return sorted(r["id"] for r in table_rows(folder, "things"))


@pytest.mark.slow
@pytest.mark.parametrize("write", ["upsert", "append"])
def test_equal_values_across_pages_loads_and_runs(tmp_path: Path, write: str) -> None:
    """All records share one instant: page, commit and run boundaries all fall between equal values."""
    source_records = [thing(i) for i in range(5000)]
    with serving(Changing(source_records, page=500)) as source:
        text = basket_text(source.url, write=write, rows_per_commit=2000)
        first, heard = run_once(text, tmp_path)
        assert first.tables[0].read == 5000
        assert len({line.load for line in heard.ledger}) == 3
        again, quiet = run_once(text, tmp_path, run=2)
        assert (again.tables[0].read, again.tables[0].repeated) == (0, 5000)
        assert quiet.ledger == []
        source_records += [thing(5000), thing(5001)]
        third, heard = run_once(text, tmp_path, run=3)
    assert (third.tables[0].read, third.tables[0].repeated) == (2, 5000)
    assert [(line.read, line.inserted, line.repeated) for line in heard.ledger] == [(2, 2, 5000)]
    assert ids(tmp_path) == [f"T{i:04d}" for i in range(5002)]


def test_the_lower_bound_is_sent_with_its_overlap_and_late_rows_are_taken(tmp_path: Path) -> None:
    records = [thing(i, f"2026-03-01T06:{i:02d}:00Z") for i in range(30)]
    with serving(Changing(records)) as source:
        text = basket_text(source.url, overlap="10m")
        run_once(text, tmp_path)
        # Late: committed at the source with a time before the highest one we took.
        records.append(thing(99, "2026-03-01T06:25:30Z"))
        records[3] = thing(3, "2026-03-01T06:29:30Z", note="changed")
        result, heard = run_once(text, tmp_path, run=2)
        assert source.requests[-1].query["since"] == "2026-03-01T06:19:00Z"
    assert (result.tables[0].read, result.tables[0].repeated) == (2, 11)
    assert [(line.inserted, line.updated) for line in heard.ledger] == [(1, 1)]
    assert "T0099" in ids(tmp_path)


def test_what_changed_after_the_run_began_waits_for_the_next(tmp_path: Path) -> None:
    began = datetime(2026, 3, 1, 6, 10, tzinfo=UTC)
    records = [thing(i, f"2026-03-01T06:{i:02d}:00Z") for i in range(20)]
    with serving(Changing(records)) as source:
        text = basket_text(source.url)
        first, heard = run_once(text, tmp_path, started=began)
        assert (first.tables[0].read, first.tables[0].held_back) == (10, 10)
        assert "cursor.held_back" in heard.codes()
        second, _ = run_once(text, tmp_path, run=2, started=began + timedelta(hours=1))
    assert second.tables[0].read == 10
    assert len(ids(tmp_path)) == 20


def test_an_unreadable_cursor_value_is_a_reject_and_a_missing_one_is_taken(tmp_path: Path) -> None:
    records = [thing(1), {**thing(2), "updated_at": "when?"}, {**thing(3), "updated_at": None}]
    with serving(Changing(records)) as source:
        result, heard = run_once(basket_text(source.url), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED
    assert [(r.code, r.record["id"]) for r in heard.rejected] == [("cursor.unreadable", "T0002")]
    assert ids(tmp_path) == ["T0001", "T0003"]
    (line,) = heard.ledger
    assert (line.read, line.inserted, line.rejected, line.reconciles) == (3, 2, 1, True)
    # Nor does a replay make the column text, which no cursor could follow.
    before = table_rows(tmp_path, "things")
    order = order_for(basket_text(source.url), run=2)
    again = {("marsh", "things"): Replayed([heard.rejected[0].record, thing(4)], [1, 1])}
    context, heard = run_context_for(order, tmp_path), Heard()
    replayed = run_feed(order, context, listener=heard, clock=lambda: datetime.now(UTC), again=again)
    assert (replayed.outcome, [r.code for r in heard.rejected]) == (RunOutcome.SUCCEEDED, ["cursor.unreadable"])
    assert [row for row in table_rows(tmp_path, "things") if row["id"] != "T0004"] == before
    assert ids(tmp_path) == ["T0001", "T0003", "T0004"]


def test_a_broken_promise_of_order_commits_only_at_the_end(tmp_path: Path) -> None:
    class Backwards(Changing):
        def __call__(self, request: Any) -> Any:
            answer = super().__call__(request)
            answer.body["items"].reverse()
            return answer

    records = [thing(i, f"2026-03-01T06:{i // 60:02d}:{i % 60:02d}Z") for i in range(300)]
    with serving(Backwards(records, page=100)) as source:
        _, heard = run_once(basket_text(source.url, rows_per_commit=50), tmp_path)
    assert "cursor.not_sorted" in heard.codes()
    assert [(line.read, line.cursor_to) for line in heard.ledger] == [(300, "2026-03-01T06:04:59Z")]


def test_a_cursor_of_numbers(tmp_path: Path) -> None:
    records = [{"id": f"T{i}", "updated_at": None, "rank": i} for i in range(12)]

    class ByRank(Changing):
        def __call__(self, request: Any) -> Any:
            self.column = "id"
            since = int(request.query.pop("since", 0))
            answer = super().__call__(request)
            answer.body["items"] = [r for r in answer.body["items"] if r["rank"] >= since]
            answer.body["meta"]["total"] = len(answer.body["items"])
            return answer

    text = basket_text("{url}", cursor=", type: number").replace("column: updated_at", "column: rank")
    with serving(ByRank(records)) as source:
        text = text.replace("{url}", source.url)
        run_once(text, tmp_path)
        records.append({"id": "T12", "updated_at": None, "rank": 12})
        result, heard = run_once(text, tmp_path, run=2)
        assert result.tables[0].cursor_from == "11"
    assert (result.tables[0].read, heard.ledger[0].cursor_to) == (1, "12")


# A source is a list of (key, minute, version) steps; the run boundary falls anywhere between them. Values go up but often
# stand still, and within the overlap they may come late.
steps = st.lists(st.tuples(st.integers(0, 12), st.integers(0, 2), st.booleans()), min_size=1, max_size=25)


@pytest.mark.slow
@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(steps, st.sampled_from(["upsert", "append"]))
def test_any_history_of_changes_arrives_once(tmp_path_factory: pytest.TempPathFactory, history: Any, write: str) -> None:
    """Run after run against a changing source: merge ends as the source, append has every version seen at a run once."""
    folder = tmp_path_factory.mktemp("any")
    records: list[dict[str, Any]] = []
    expected: set[tuple[str, int]] = set()
    minute, version, run = 0, 0, 0
    with serving(Changing(records, page=4)) as source:
        text = basket_text(source.url, write=write, overlap="2m", rows_per_commit=1)

        def run_now() -> None:
            nonlocal run
            run += 1
            result, heard = run_once(text, folder, run=run)
            assert result.outcome is RunOutcome.SUCCEEDED, result.error
            assert all(line.reconciles for line in heard.ledger)
            expected.update((r["id"], r["n"]) for r in records)

        for key, later, run_after in history:
            minute += later
            version += 1
            at = minute - (1 if version % 3 == 0 and minute else 0)  # sometimes a minute late, within the overlap
            records[:] = [r for r in records if r["id"] != f"T{key:04d}"]
            records.append({**thing(key, f"2026-03-01T06:{at:02d}:00Z"), "n": version})
            if run_after:
                run_now()
        run_now()
    loaded = [(r["id"], r["n"]) for r in table_rows(folder, "things")]
    if write == "upsert":
        assert sorted(loaded) == sorted((r["id"], r["n"]) for r in records)
    else:
        assert sorted(loaded) == sorted(expected)
