"""What is asked and in which form, lists, windows, parents and children: each declared in a few lines, against a real server."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome, RunResult, plan_feed, verify_feed
from reedbasket.core.spec import load_texts
from tests.support.feeds import Heard, order_for, run_context_for, run_once, table_rows
from tests.support.source import Answer, Request, Source, serving

NOON = datetime(2026, 3, 4, 12, tzinfo=UTC)


def basket(url: str, tables: str, feed: str = "tables: [things]", extra: str = "") -> str:
    """tables: of the connector, as YAML two spaces in. feed, extra: lines of the feed and of the connector."""
    return f"""
connector: test-api
type: http
settings: {{url: {{type: url}}, landings: {{type: list, default: [EEL, OSQ]}}, token: {{type: secret}}}}
base_url: "{{settings.url}}/v1"
retry: {{attempts: 2, first_wait: 10ms, max_wait: 20ms}}
{extra}
tables:
{tables}
---
source: test
connector: test-api
settings: {{url: "{url}", token: {{secret: test_token}}}}
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: marsh
{feed}
"""


def read(source: Source, folder: Path, tables: str, feed: str = "tables: [things]", **more: Any) -> tuple[RunResult, Heard]:
    return run_once(basket(source.url, tables, feed, more.pop("extra", "")), folder, **more)


def test_what_is_posted_and_where_pages_are_asked_for(tmp_path: Path) -> None:
    days = [{"day": n, "metres": n / 2} for n in range(7)]

    def answer(request: Request) -> Answer:
        assert request.method == "POST"
        if request.path == "/v1/form":
            assert request.form == {"landing": "OSQ", "measures": "metres"}
            return Answer({"rows": days})
        if request.path == "/v1/graph":
            skip = request.json["variables"]["page"]["skip"]
            assert request.json["query"].startswith("query($page")
            return Answer({"data": {"days": {"nodes": days[skip : skip + 3], "total": 7}}})
        assert (request.json["range"], request.json["most"]) == ({"from": "2026-03-04"}, 500)
        assert "missing" not in request.json
        start = int(request.json.get("paging", {}).get("after", 0))
        more = {"X-After": str(start + 3)} if start + 3 < 7 else {}
        return Answer({"rows": days[start : start + 3]}, headers=more)

    tables = """
  - table: reports
    post: /reports
    body: {json: {range: {from: "{run.started:%Y-%m-%d}"}, most: 500, missing: "{cursor.from}"}}
    records: rows
    pagination: {by: page_token, response_header: X-After, param: paging.after, in: body}
    primary_key: day
  - {table: forms, post: /form, body: {form: {landing: OSQ, measures: metres}}, records: rows, primary_key: day}
  - table: graph
    post: /graph
    body: {graphql: "query($page: Page) { days(page: $page) { nodes { day metres } } }", variables: {}}
    records: data.days.nodes
    total: data.days.total
    pagination: {by: offset, param: page.skip, in: body}
    primary_key: day
"""
    with serving(answer) as source:
        result, heard = read(source, tmp_path, tables, "tables: [reports, forms, graph]", started=NOON)
    assert result.error is None
    for table in ("reports", "forms", "graph"):
        assert table_rows(tmp_path, table) == days
    assert {request.method for request in heard.requests} == {"POST"}


def test_one_request_for_every_value_of_a_list(tmp_path: Path) -> None:
    def answer(request: Request) -> Answer:
        landing = request.path.rsplit("/", 1)[1]
        return Answer([{"at": f"{landing}{request.query['kind']}{n}"} for n in range(2)])

    table = """
  - table: things
    get: "/at/{value.landing}"
    query_params: {kind: "{value.kind}"}
    for_values: {landing: "{settings.landings}", kind: [a, b, 7]}
    add_columns: {landing: "{value.landing}"}
    primary_key: at
"""
    with serving(answer) as source:
        result, heard = read(source, tmp_path, table)
        assert result.tables[0].read == 12
        assert len(heard.requests) == 6
    assert {(row["landing"], row["at"]) for row in table_rows(tmp_path, "things")} == {
        (landing, f"{landing}{kind}{n}") for landing in ("EEL", "OSQ") for kind in ("a", "b", "7") for n in range(2)
    }


class Tides:
    """A report a day, or whatever the window; `fail_at` answers 500 for windows that begin there."""

    def __init__(self) -> None:
        self.fail_at: set[str] = set()
        self.asked: list[str] = []
        self.late: dict[str, float] = {}

    def __call__(self, request: Request) -> Answer:
        begin = request.query["from"]
        self.asked.append(begin)
        if begin in self.fail_at:
            return Answer({}, 500)
        return Answer([{"day": begin, "hour": hour, "metres": self.late.get(begin, hour / 10)} for hour in (0, 12)])


WINDOWED = """
  - table: things
    get: /levels
    query_params: {from: "{window.from:%Y-%m-%d}", until: "{window.until:epoch}"}
    window: {from: 2026-02-20, length: 1d, delay: 1h}
    primary_key: [day, hour]
"""


def test_windows_are_taken_once_and_go_on_after_the_last_one_committed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("reedbasket.core.runs.execution.table_commits._COMMIT_SECONDS", 0.0)
    monkeypatch.setattr("reedbasket.core.sources.batching.SLOW_SECONDS", 0.0)
    tides = Tides()
    tides.fail_at = {"2026-02-26"}
    with serving(tides) as source:
        failed, heard = read(source, tmp_path, WINDOWED, started=NOON)
        assert failed.outcome is RunOutcome.FAILED
        assert heard.ledger[-1].cursor_to == "2026-02-26T00:00:00Z"
        assert len(table_rows(tmp_path, "things")) == 12
        tides.asked, tides.fail_at = [], set()
        done, heard = read(source, tmp_path, WINDOWED, started=NOON)
        assert sorted(set(tides.asked)) == ["2026-02-26", "2026-02-27", "2026-02-28", "2026-03-01", "2026-03-02", "2026-03-03"]
        assert (done.tables[0].read, heard.ledger[-1].cursor_to) == (12, "2026-03-04T00:00:00Z")
        # The day that ends at midnight is whole an hour after.
        half_past = datetime(2026, 3, 5, 0, 30, tzinfo=UTC)
        nothing, heard = read(source, tmp_path, WINDOWED, started=half_past)
        assert (nothing.tables[0].requests, heard.ledger) == (0, [])
        # Late figures: the last two days once more, and only what differs counts as changed.
        tides.asked, tides.late = [], {"2026-03-03": 9.5}
        again = WINDOWED.replace("delay: 1h", "delay: 1h, overlap: 2d")
        later, heard = read(source, tmp_path, again, started=half_past.replace(hour=2))
        assert sorted(tides.asked) == ["2026-03-02", "2026-03-03", "2026-03-04"]
        counted = [(line.updated, line.unchanged, line.inserted) for line in heard.ledger]
        assert [sum(counts) for counts in zip(*counted)] == [2, 2, 2]
        order = order_for(basket(source.url, again), started=half_past.replace(hour=3))
        (verified,) = verify_feed(order, run_context_for(order, tmp_path), deep=True, only=None)
        assert (verified.same, verified.source) == (True, 26)
        monthly = WINDOWED.replace("length: 1d", "length: month").replace("2026-02-20", "2025-11-30")
        order = order_for(basket(source.url, monthly), started=NOON)
        (planned,) = plan_feed(order, run_context_for(order, tmp_path / "none"))
        assert (planned.requests, planned.cursor_from) == (3, "2025-11-30T00:00:00Z")
    assert later.outcome is RunOutcome.SUCCEEDED


def test_an_answer_that_did_not_change_is_not_read_again(tmp_path: Path) -> None:
    state = {"tag": '"one"', "rows": [{"id": 1}, {"id": 2}]}

    def answer(request: Request) -> Answer:
        if request.headers.get("if-none-match") == state["tag"]:
            return Answer(raw=b"", status=304)
        return Answer(state["rows"], headers={"ETag": str(state["tag"])})

    table = "  - {table: things, get: /things, primary_key: id, conditional_requests: true}"
    feed = "tables: [{table: things, write: mirror}]"
    with serving(answer) as source:
        read(source, tmp_path, table, feed)
        again, heard = read(source, tmp_path, table, feed)
        assert (again.tables[0].read, heard.requests[0].status, heard.ledger, again.tables[0].cursor_to) == (0, 304, [], None)
        assert len(table_rows(tmp_path, "things")) == 2
        state.update(tag='"two"', rows=[{"id": 2}])
        read(source, tmp_path, table, feed)
        assert table_rows(tmp_path, "things") == [{"id": 2}]
        # Taken in another way, the same answer is wanted whole.
        other, heard = read(source, tmp_path, table, "tables: [{table: things, write: mirror, constants: {region: marsh}}]")
    assert (other.tables[0].read, heard.requests[0].status) == (1, 200)


@pytest.mark.parametrize(
    ("rule", "sent", "written"),
    [
        ("column: at", "2026-03-01T06:00:03.5Z", lambda n: f"2026-03-01T06:00:0{n}.5Z"),
        ("column: at, format: epoch", "1772344803", lambda n: 1772344800 + n),
        ("column: at, format: epoch_ms", "1772344803500", lambda n: 1772344800500 + 1000 * n),
        ("column: at, format: '%d.%m.%Y %H:%M:%S'", "01.03.2026 06:00:03", lambda n: f"01.03.2026 06:00:0{n}"),
        ("column: at, type: number", "1003", lambda n: 1000 + n),
    ],
    ids=["iso", "epoch", "milliseconds", "custom", "number"],
)
@pytest.mark.parametrize("bound", ["inclusive", "exclusive", "none"])
def test_cursors_in_the_source_s_own_writing(
    tmp_path: Path, rule: str, sent: str, written: Callable[[int], Any], bound: str
) -> None:
    """Two records of equal value stand at the boundary, one of which comes later: none is lost, none doubled."""
    form = rule.split("format: ")[1].strip("'") if "format" in rule else ""
    records = [{"id": n, "at": written(n)} for n in range(4)]
    place = {str(written(n)): n for n in range(8)}
    asked: list[str | None] = []

    def answer(request: Request) -> Answer:
        since = request.query.get("since")
        asked.append(since)
        if since is None or bound == "none":
            return Answer(records)
        # As coarse as what was sent, the source compares as it can.
        keep = [r for r in records if compare(r["at"], since)]
        return Answer(keep)

    def compare(value: Any, since: str) -> bool:
        at, bar = place[str(value)], next((n for text, n in place.items() if text == since), None)
        if bar is None:  # a value a step below one of ours
            bar = sum(1 for text in place if _key(text, form) < _key(since, form))
            return at >= bar
        return at > bar if bound == "exclusive" else at >= bar

    send = "" if bound == "none" else f"query_params: {{since: '{{cursor.from{':' + form if form else ''}}}'}}, "
    table = f"  - {{table: things, get: /things, {send}primary_key: id, cursor: {{{rule}, bound: {bound}}}}}"
    with serving(answer) as source:
        read(source, tmp_path, table, "tables: [{table: things, write: append}]")
        records.append({"id": 99, "at": written(3)})
        second, heard = read(source, tmp_path, table, "tables: [{table: things, write: append}]")
        third, _ = read(source, tmp_path, table, "tables: [{table: things, write: append}]")
    assert (second.error, heard.rejected) == (None, [])
    assert (second.tables[0].read, third.tables[0].read) == (1, 0)
    assert [row["id"] for row in table_rows(tmp_path, "things")] == [0, 1, 2, 3, 99]
    if bound == "inclusive":
        assert asked[1] == sent


def test_a_cursor_with_an_end_takes_what_lies_before_it(tmp_path: Path) -> None:
    records = [{"id": n, "at": f"2026-03-0{n}T00:00:00Z"} for n in range(1, 8)]
    cursor = "cursor: {column: at, bound: none, from: 2026-03-03, until: 2026-03-06}"
    table = f"  - {{table: things, get: /things, query_params: {{until: '{{cursor.until:%d}}'}}, primary_key: id, {cursor}}}"
    with serving(lambda request: Answer(records)) as source:
        result, heard = read(source, tmp_path, table)
        assert source.requests[0].query == {"until": "06"}
    assert [row["id"] for row in table_rows(tmp_path, "things")] == [3, 4, 5]
    assert (result.tables[0].held_back, result.tables[0].repeated, "cursor.held_back" in heard.codes()) == (2, 2, True)


def _key(text: str, form: str) -> Any:
    return datetime.strptime(text, form) if "%" in form else float(text) if text.isdigit() else text


@pytest.mark.slow
def test_a_page_of_many_megabytes_is_gone_through_in_parts(tmp_path: Path) -> None:
    """The records lie between other keys, with brackets and quotes inside strings."""
    filler = 'x]}{["\\" ' * 40
    rows = [{"id": n, "note": filler, "inner": {"data": [1, {"items": 2}]}} for n in range(20_000)]
    raw = json.dumps({"items": {"no": [3]}, "data": {"x": [[{"a": "]"}]], "items": rows, "next": None}, "z": 1}).encode()
    assert len(raw) > 8 * 2**20
    with serving(lambda request: Answer(raw=raw)) as source:
        table = "  - {table: things, get: /things, records: data.items, primary_key: id, "
        table += "pagination: {by: page_token, at: data.next, param: after}}"
        result, heard = read(source, tmp_path, table, "tables: [{table: things, exclude_columns: [inner]}]")
        cut = raw[: len(raw) // 2]
        source.handler = lambda request: Answer(raw=cut)
        broken, _ = read(source, tmp_path, table, "tables: [{table: things, exclude_columns: [inner]}]")
    assert (result.error, result.tables[0].read, len(heard.requests)) == (None, 20_000, 1)
    found = table_rows(tmp_path, "things")
    assert (len(found), found[77]["note"]) == (20_000, filler)
    assert broken.error is not None
    assert broken.error["code"] == "source.body_unreadable"


def test_pages_ahead_come_in_order_and_at_most_so_many_at_once(tmp_path: Path) -> None:
    things, lock = [{"id": n} for n in range(205)], threading.Lock()
    now = most = 0

    def answer(request: Request) -> Answer:
        nonlocal now, most
        with lock:
            now += 1
            most = max(most, now)
        start = int(request.query["skip"])
        # Later pages answer sooner.
        threading.Event().wait(0.05 if start % 40 else 0.01)
        with lock:
            now -= 1
        return Answer({"rows": things[start : start + 20], "count": 205})

    table = """
  - table: things
    get: /things
    records: rows
    total: count
    pagination: {by: offset, param: skip, size: 20, size_param: take}
"""
    with serving(answer) as source:
        result, heard = read(
            source, tmp_path, table, "tables: [{table: things, write: append}]", extra="rate_limit: {concurrency: 3}"
        )
    assert (result.error, result.tables[0].read, most) == (None, 205, 3)
    assert len(heard.requests) == 11
    db_order = [row["id"] for row in sorted(table_rows(tmp_path, "things"), key=lambda r: r["id"])]
    assert db_order == list(range(205))


@pytest.mark.parametrize(
    ("table", "path", "says"),
    [
        ("{table: things, get: /a, post: /b}", "things", "either `get` or `post`"),
        ("{table: things, get: /a, body: {json: {}}}", "things", "`body` goes with `post`"),
        ("{table: things, post: /a, body: {}}", "things.body", "one of json, form and graphql"),
        ('{table: things, get: "/a/{parent.id}"}', "things.get", "no `parent`"),
        ("{table: things, get: /a, parent: {table: thing}}", "things.parent.table", 'did you mean "things"'),
        ("{table: things, get: /a, parent: {table: things}}", "things.parent.table", "in a circle"),
        ('{table: things, get: "/{value.x}", for_values: {y: [1]}}', "things.get", "did you mean"),
        ('{table: things, get: "/{window.from}"}', "things", "sends a window"),
        ("{table: things, get: /a, window: {from: 2026-01-01, length: 10ms}}", "things.window.length", "at least a second"),
        (
            "{table: things, get: /a, conditional_requests: true, pagination: {by: page_number, param: p}}",
            "things",
            "for a single GET",
        ),
        ('{table: things, get: "/a/{settings.landings}"}', "things.get", "is a list: use it in `for_values`"),
        ("{table: things, get: /a, format: yaml}", "things.format.type", "csv"),
    ],
)
def test_what_does_not_go_together_is_told(table: str, path: str, says: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"basket.yaml": basket("http://127.0.0.1:1", f"  - {table}")})
    found = [(m["path"], m["message"]) for m in caught.value.details]  # type: ignore[union-attr]
    assert any(where.endswith(path) and says in message for where, message in found), found
