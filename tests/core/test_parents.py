"""One request for each record of another table: which parents, read how often, and nothing lost where a run is cut."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from reedbasket.core.runs import RunOutcome, plan_feed
from tests.core.test_requests import basket, read
from tests.support.feeds import order_for, run_context_for, table_rows
from tests.support.source import Answer, Request, serving


class Harbour:
    """Sailings with boardings each, and luggage of each boarding."""

    def __init__(self, count: int) -> None:
        self.sailings = [{"id": n, "updated_at": f"2026-03-01T{n // 60:02d}:{n % 60:02d}:00Z"} for n in range(count)]
        self.asked: list[str] = []
        self.fail: Callable[[str], bool] = lambda path: False

    def __call__(self, request: Request) -> Answer:
        self.asked.append(request.path)
        if self.fail(request.path):
            return Answer({}, 500)
        parts = request.path.split("/")[2:]
        if len(parts) == 1:
            return Answer([s for s in self.sailings if s["updated_at"] >= request.query.get("since", "")])  # type: ignore[operator]
        if int(parts[1]) % 7 == 6:
            return Answer({"error": "sailed long ago"}, 404)
        if len(parts) == 3:
            return Answer([{"seat": f"{seat}"} for seat in "AB"])
        return Answer([{"bag": 1}])


FAMILY = """
  - {table: sailings, get: /sailings, query_params: {since: "{cursor.from}"}, primary_key: id, cursor: {column: updated_at, sorted: true}}
  - table: boardings
    parent: {table: sailings, rows: changed}
    get: /sailings/{parent.id}/boardings
    empty_on_status: [404]
    add_columns: {sailing: "{parent.id}"}
    primary_key: [sailing, seat]
  - table: bags
    parent: {table: boardings}
    get: /sailings/{parent.sailing}/boardings/{parent.seat}/bags
    add_columns: {sailing: "{parent.sailing}", seat: "{parent.seat}"}
    primary_key: [sailing, seat, bag]
"""


def test_children_are_asked_for_by_parents_that_changed_and_parents_are_read_once(tmp_path: Path) -> None:
    harbour = Harbour(10)
    feed = "tables: [bags, boardings, sailings]"
    with serving(harbour) as source:
        first, _ = read(source, tmp_path, FAMILY, feed)
        assert first.error is None
        assert [t.table for t in first.tables] == ["sailings", "boardings", "bags"]
        assert [len(table_rows(tmp_path, t)) for t in ("sailings", "boardings", "bags")] == [10, 18, 18]
        assert table_rows(tmp_path, "bags")[0] == {"bag": 1, "sailing": 0, "seat": "A"}
        # Once by their own run; the boardings asked for by `bags` are of all sailings, and so were these.
        assert harbour.asked.count("/v1/sailings") == 1
        harbour.asked.clear()
        quiet, heard = read(source, tmp_path, FAMILY, "tables: [boardings, sailings]")
        assert (harbour.asked, heard.ledger) == (["/v1/sailings"], [])
        harbour.asked.clear()
        harbour.sailings[3] = {"id": 3, "updated_at": "2026-03-02T00:00:00Z"}
        changed, _ = read(source, tmp_path, FAMILY, "tables: [boardings, sailings]")
        assert harbour.asked == ["/v1/sailings", "/v1/sailings/3/boardings"]
        assert [t.read for t in changed.tables] == [1, 2]
    assert quiet.outcome is RunOutcome.SUCCEEDED


def test_children_with_a_cursor_of_their_own_are_read_under_parents_that_do_not_change(tmp_path: Path) -> None:
    boardings = [{"seat": f"A{n}", "sailing": n % 3, "updated_at": f"2026-03-01T06:0{n}:00Z"} for n in range(6)]
    asked: list[tuple[str, str | None]] = []

    def answer(request: Request) -> Answer:
        since = request.query.get("since")
        asked.append((request.path, since))
        parts = request.path.split("/")[2:]
        if len(parts) == 1:
            return Answer([{"id": n} for n in range(3)])
        return Answer([b for b in boardings if b["sailing"] == int(parts[1]) and str(b["updated_at"]) >= (since or "")])

    tables = """
  - {table: sailings, get: /sailings, primary_key: id}
  - table: boardings
    parent: {table: sailings}
    get: /sailings/{parent.id}/boardings
    query_params: {since: "{cursor.from}"}
    primary_key: seat
    cursor: {column: updated_at, overlap: 1m}
"""
    feed = "tables: [{table: sailings, write: upsert}, {table: boardings, write: upsert}]"
    with serving(answer) as source:
        read(source, tmp_path, tables, feed)
        assert len(table_rows(tmp_path, "boardings")) == 6
        boardings.append({"seat": "B1", "sailing": 1, "updated_at": "2026-03-01T06:07:00Z"})
        asked.clear()
        _, heard = read(source, tmp_path, tables, feed)
        assert sorted(asked)[1:] == [(f"/v1/sailings/{n}/boardings", "2026-03-01T06:04:00Z") for n in range(3)]
        assert [line.inserted for line in heard.ledger if line.table == "boardings"] == [1]
        order = order_for(basket(source.url, tables, feed))
        planned = {one.source_table: one for one in plan_feed(order, run_context_for(order, tmp_path))}
        assert "not_detected.late_parents" in [warning["code"] for warning in planned["boardings"].warnings]


def test_children_of_a_run_that_was_cut_are_not_lost(tmp_path: Path) -> None:
    """The parents' cursor has moved on; the children's has not, and goes by itself."""
    harbour = Harbour(30)
    feed = "tables: [sailings, boardings]"
    harbour.fail = lambda path: path.endswith("/17/boardings")
    with serving(harbour) as source:
        cut, _ = read(source, tmp_path, FAMILY, feed)
        assert (cut.outcome, len(table_rows(tmp_path, "sailings"))) == (RunOutcome.FAILED, 30)
        harbour.fail = lambda path: False
        done, _ = read(source, tmp_path, FAMILY, feed)
        assert done.error is None
        assert len(table_rows(tmp_path, "boardings")) == sum(2 for n in range(30) if n % 7 != 6)
        order = order_for(basket(source.url, FAMILY, feed))
        planned = plan_feed(order, run_context_for(order, tmp_path))
    assert planned[1].request == "GET " + source.url + "/v1/sailings/0/boardings"
