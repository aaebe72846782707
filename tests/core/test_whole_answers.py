"""A short answer is never taken for a whole one, and a right one in unusual clothes is read."""

from __future__ import annotations

import gzip
import json
import threading
import zlib
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import duckdb
import pytest

from reedbasket.core.runs import RunOutcome, plan_feed, run_feed
from reedbasket.core.runs.execution.replay import Replayed
from tests.core.test_requests import basket
from tests.support.feeds import Heard, order_for, run_context_for, run_once, table_rows
from tests.support.source import Answer, Request, serving

MIRROR = "tables: [{table: things, changes: {by: full}, write: mirror}]"
ROWS = [{"id": n, "name": f"thing {n}"} for n in range(12)]
AS_CSV = "id,name\n" + "".join(f"{r['id']},{r['name']}\n" for r in ROWS)
AS_LINES = "".join(json.dumps(r) + "\n" for r in ROWS)


def table(more: str, records: str = "records: items, ") -> str:
    return f"  - {{table: things, get: /things, {records}primary_key: id{', ' + more if more else ''}}}"


def run(answer: Any, folder: Path, tables: str, feed: str = MIRROR, *, number: int = 1, **more: Any) -> Any:
    with serving(answer if callable(answer) else lambda request: answer) as source:
        return run_once(basket(source.url, tables, feed), folder, run=number, **more)


def keys(folder: Path) -> list[int]:
    return sorted(int(row["id"]) for row in table_rows(folder, "things"))


def packed(text: str, coding: str) -> bytes:
    return gzip.compress(text.encode()) if coding == "gzip" else zlib.compress(text.encode())


@pytest.mark.parametrize("coding", ["gzip", "deflate"])
@pytest.mark.parametrize(("form", "text"), [("csv", AS_CSV), ("ndjson", AS_LINES)])
def test_a_compressed_body_that_does_not_end_is_not_read(tmp_path: Path, form: str, text: str, coding: str) -> None:
    """With a length that agrees. It is tried again like a reset, and where it lasts nothing is removed."""
    rule, headers = table(f"format: {form}", ""), {"Content-Encoding": coding}
    whole, cut = Answer(raw=packed(text, coding), headers=headers), Answer(raw=packed(text, coding)[:-6], headers=headers)
    answers = [cut, whole]
    result, heard = run(lambda request: answers.pop(0) if len(answers) > 1 else whole, tmp_path, rule)
    assert result.outcome is RunOutcome.SUCCEEDED and [bool(seen.problem) for seen in heard.requests] == [True, False]
    result, heard = run(cut, tmp_path, rule, number=2)
    assert result.error["code"] == "source.body_cut_off" and len(heard.requests) == 2
    assert keys(tmp_path) == list(range(12))


@pytest.mark.parametrize("kind", ["text/html", "text/csv"])
@pytest.mark.parametrize("form", ["csv", "ndjson"])
def test_a_page_of_html_is_no_data(tmp_path: Path, form: str, kind: str) -> None:
    rule = table(f"format: {form}", "")
    run(Answer(raw=(AS_CSV if form == "csv" else AS_LINES).encode()), tmp_path, rule)
    page = Answer(raw=b"<!DOCTYPE html>\n<html><body>sign in, please</body></html>\n", headers={"Content-Type": kind})
    result, _ = run(page, tmp_path, rule, number=2)
    assert result.error["code"] == "source.body_unreadable" and "HTML" in result.error["found"] + "HTML" * (kind == "text/html")
    other = Answer(raw=b"shard,state\n3,down\n") if form == "csv" else Answer(raw=b'{"error": "down"}\n')
    result, _ = run(other, tmp_path, rule, number=3)
    assert result.error["code"] in ("source.body_unreadable", "source.field_not_found", "source.error_in_answer")
    assert keys(tmp_path) == list(range(12))


@pytest.mark.parametrize(
    "rule",
    [
        "{by: link_header}",
        "{by: page_token, at: meta.next, param: after}",
        "{by: page_token, response_header: X-After, param: after}",
    ],
)
def test_a_page_rule_that_never_leads_on_is_doubted(tmp_path: Path, rule: str) -> None:
    answer, tables = Answer({"items": ROWS}), table(f"query_params: {{limit: 12}}, pagination: {rule}")
    refused, _ = run(answer, tmp_path, tables)
    assert refused.error["code"] == "source.pages_may_continue" and "single_page" in refused.error["fix"]
    merged, heard = run(answer, tmp_path, tables, "tables: [{table: things, changes: {by: full}, write: upsert}]")
    assert merged.outcome is RunOutcome.SUCCEEDED and "pages.may_continue" in heard.codes()
    with serving(lambda request: answer) as source:
        order = order_for(basket(source.url, tables, "tables: [{table: things, changes: {by: full}, write: upsert}]"))
        planned = plan_feed(order, run_context_for(order, tmp_path))
    assert {"pages.may_continue", "not_detected.deletes"} <= {warning["code"] for warning in planned[0].warnings}
    sure, heard = run(answer, tmp_path, tables.replace("primary_key: id", "primary_key: id, single_page: true"), number=2)
    assert sure.outcome is RunOutcome.SUCCEEDED and "pages.may_continue" not in heard.codes()
    # Behind a first page nobody can tell: it is said, in the run and before it, and nothing fails.
    led = {
        "{by: link_header}": {"Link": '</things?after=1>; rel="next"'},
        "{by: page_token, response_header: X-After, param: after}": {"X-After": "1"},
    }.get(rule)

    def two(request: Request) -> Answer:
        if "after" in request.query:
            return Answer({"items": [{**row, "id": row["id"] + 12} for row in ROWS]})
        return Answer({"items": ROWS, "meta": {"next": "1"}}, headers=led or {})

    ended, heard = run(two, tmp_path, tables, number=3)
    assert ended.outcome is RunOutcome.SUCCEEDED and "pages.end_unknown" in heard.codes()
    with serving(two) as source:
        order = order_for(basket(source.url, tables, "tables: [{table: things, changes: {by: full}, write: mirror}]"))
        planned = plan_feed(order, run_context_for(order, tmp_path))
    assert "pages.end_unknown" in {warning["code"] for warning in planned[0].warnings}
    # A page that is not full, or says that it is the last, is all there is.
    said = Answer({"items": ROWS, "meta": {"next": None}}, headers={"Link": '</things?p=1>; rel="first"', "X-After": ""})
    assert run(said, tmp_path, tables, number=4)[0].outcome is RunOutcome.SUCCEEDED


@pytest.mark.parametrize(
    "answer",
    [
        Answer({"items": ROWS[:3], "has_more": True}),
        Answer({"items": ROWS[:3], "paging": {"next": "/v1/things?p=2"}}),
        Answer({"items": ROWS[:3]}, headers={"X-Next-Page": "2"}),
        Answer({"items": ROWS[:3], "errors": [{"message": "shard 3 is down"}]}),
        Answer({"items": ROWS[:3]}, status=206),
        Answer({"items": ROWS[:3]}, headers={"x-TOTAL": "12"}),
    ],
    ids=["flag", "address", "header", "errors", "206", "total"],
)
def test_what_the_source_says_of_itself_is_held_against_what_came(tmp_path: Path, answer: Answer) -> None:
    tables = table("total: {response_header: X-Total}")
    run(Answer({"items": ROWS, "meta": {}}), tmp_path, tables)
    result, _ = run(answer, tmp_path, tables, number=2)
    assert result.outcome is RunOutcome.FAILED and result.error["code"].startswith("source.")
    assert keys(tmp_path) == list(range(12))


def test_no_cursor_moves_past_a_short_page(tmp_path: Path) -> None:
    rows = [{"id": n, "at": f"2026-03-01T06:00:{n:02}Z"} for n in range(12)]
    short = [True]

    def answer(request: Request) -> Answer:
        found = [r for r in rows if str(r["at"]) >= request.query.get("since", "")]
        start = int(request.query.get("after", 0))
        page = found[start : start + 4]
        following = str(start + 4) if start + 4 < len(found) else None
        return Answer({"items": page[:-1] if short[0] and start == 4 else page, "next": following, "total": len(found)})

    tables = table(
        "query_params: {since: '{cursor.from}'}, pagination: {by: page_token, at: next, param: after}, total: total, cursor: {column: at}"
    )
    feed = "tables: [{table: things, write: upsert}]"
    result, _ = run(answer, tmp_path, tables, feed)
    assert result.error["code"] == "source.total_not_reached"
    short[0] = False
    assert run(answer, tmp_path, tables, feed, number=2)[0].outcome is RunOutcome.SUCCEEDED
    assert keys(tmp_path) == list(range(12))


def test_an_address_in_any_header_leads_on_and_an_absent_list_may_mean_none(tmp_path: Path) -> None:
    def answer(request: Request) -> Answer:
        start = int(request.query.get("p", 0))
        if start >= len(ROWS):
            return Answer({"took": 3})
        return Answer({"items": ROWS[start : start + 5]}, headers={"x-nExt-URL": f"/v1/things?p={start + 5}"})

    tables = table("pagination: {by: next_url, response_header: X-Next-Url}")
    refused, _ = run(answer, tmp_path, tables)
    assert refused.error["code"] == "source.records_not_found" and "missing_means_empty" in refused.error["fix"]
    result, _ = run(answer, tmp_path, tables.replace("primary_key: id", "primary_key: id, missing_means_empty: true"))
    assert result.outcome is RunOutcome.SUCCEEDED and keys(tmp_path) == list(range(12))


def test_a_read_that_shrank_stops_before_anything_is_removed(tmp_path: Path) -> None:
    rows = [{"id": n} for n in range(40)]
    for write in ("mirror", "replace"):
        feed = MIRROR.replace("mirror", write)
        run(Answer({"items": rows}), tmp_path / write, table(""), feed)
        result, _ = run(Answer({"items": rows[:15]}), tmp_path / write, table(""), feed, number=2)
        assert result.error["code"] == "run.too_many_removed" and "25 of 40" in result.error["found"]
        assert len(keys(tmp_path / write)) == 40
        if write == "replace":  # what comes twice makes it no larger
            repeated = run(Answer({"items": rows[:15] * 3}), tmp_path / write, table(""), feed, number=3)[0]
            assert repeated.error["code"] == "run.too_many_removed" and len(keys(tmp_path / write)) == 40
        raised = run(Answer({"items": rows[:15]}), tmp_path / write, table(""), feed + "\nmax_removed: 25", number=3)[0]
        assert raised.outcome is RunOutcome.SUCCEEDED and len(keys(tmp_path / write)) == 15
        run(Answer({"items": rows[:1]}), tmp_path / write, table(""), feed, number=4, accept=True)
        assert len(keys(tmp_path / write)) == 1


@pytest.mark.parametrize("by", ["full", "compare"])
def test_what_was_rejected_has_not_gone_and_all_rejected_is_no_success(tmp_path: Path, by: str) -> None:
    feed = f"tables: [{{table: things, changes: {{by: {by}}}, write: mirror, cast: {{n: int64}}}}]"
    rows: list[Any] = [{"id": n, "n": n} for n in range(12)]
    run(Answer({"items": rows}), tmp_path, table(""), feed)
    bad = [{**rows[0], "n": "many"}, *rows[1:10]]  # 0 is rejected, 10 and 11 have gone
    result, heard = run(Answer({"items": bad}), tmp_path, table(""), feed, number=2)
    assert result.outcome is RunOutcome.SUCCEEDED and len(heard.rejected) == 1
    assert keys(tmp_path) == list(range(10))
    unreadable = [{"n": 5}, *rows[1:9]]  # whose key nobody can read: 9 may be it
    result, heard = run(Answer({"items": unreadable}), tmp_path, table(""), feed, number=3)
    assert keys(tmp_path) == list(range(10))
    run(Answer({"items": rows[1:9]}), tmp_path, table(""), feed, number=4)
    assert keys(tmp_path) == list(range(1, 9))
    result, _ = run(Answer({"items": [{"id": 1, "n": "x"}]}), tmp_path, table(""), feed, number=5)
    assert result.error["code"] == "run.too_many_rejects"


@pytest.mark.parametrize(
    ("more", "records"),
    [("", [{"ID": 1}]), ("cursor: {column: changed}, query_params: {since: '{cursor.from}'}", [{"id": 1, "at": "2026-03-01"}])],
    ids=["key", "cursor"],
)
def test_a_key_or_cursor_that_no_record_has_is_an_error_at_once(tmp_path: Path, more: str, records: list[Any]) -> None:
    result, _ = run(Answer({"items": records}), tmp_path, table(more), "tables: [{table: things, write: upsert}]")
    assert result.error["code"] == "source.field_not_found" and (
        "`id`" in result.error["found"] or "`changed`" in result.error["found"]
    )


@pytest.mark.slow
def test_new_tokens_for_ever_have_an_end(tmp_path: Path) -> None:
    count = iter(range(10_000))
    result, heard = run(
        lambda request: Answer({"items": [], "next": f"t{next(count)}"}),
        tmp_path,
        table("pagination: {by: page_token, at: next, param: t}"),
    )
    assert result.error["code"] == "source.endless_pages" and len(heard.requests) < 200


def test_pages_by_number_that_moved_are_read_again(tmp_path: Path) -> None:
    """A record of the first page goes while the second is on its way: one of the third would be passed over."""
    rows, asked = list(ROWS), [0]

    def answer(request: Request) -> Answer:
        asked[0] += 1
        page = int(request.query["page"])
        found = Answer({"items": rows[(page - 1) * 4 : page * 4], "total": len(rows)})
        if asked[0] == 1:
            del rows[0]
        return found

    tables = table("pagination: {by: page_number, param: page, size: 4}, total: total")
    result, heard = run(answer, tmp_path, tables)
    assert result.outcome is RunOutcome.SUCCEEDED and "source.pages_moved" in heard.codes()
    assert keys(tmp_path) == list(range(1, 12))
    assert heard.ledger[0].read == 11


@pytest.mark.parametrize(
    "written", ["2026-03-01 06:00:{:02}.500", "2026-03-01T06:00:{:02}+00:00", "2026-03-01T06:00:{:02}.250Z"]
)
@pytest.mark.parametrize("bound", ["inclusive", "exclusive"])
def test_a_source_that_compares_times_as_text_loses_nothing(tmp_path: Path, written: str, bound: str) -> None:
    rows = [{"id": n, "at": written.format(n)} for n in range(6)]

    def answer(request: Request) -> Answer:
        since = request.query.get("since", "")
        return Answer({"items": [r for r in rows if (str(r["at"]) >= since if bound == "inclusive" else str(r["at"]) > since)]})

    tables = table(f"query_params: {{since: '{{cursor.from}}'}}, cursor: {{column: at, bound: {bound}}}")
    for number in range(1, 4):
        result, _ = run(answer, tmp_path, tables, "tables: [{table: things, write: append}]", number=number)
        assert result.outcome is RunOutcome.SUCCEEDED
        rows.append({"id": len(rows), "at": rows[-1]["at"]})
        rows.append({"id": len(rows), "at": written.format(len(rows))})
    assert keys(tmp_path) == list(range(10))


def test_a_cancelled_run_waits_for_no_answer(tmp_path: Path) -> None:
    stop, asked, hold = threading.Event(), threading.Event(), threading.Event()

    def silent(request: Request) -> Answer:
        asked.set()
        hold.wait(60)
        return Answer({"items": []})

    found: list[Any] = []
    with serving(silent) as source:
        text = basket(source.url, table(""), MIRROR, "timeouts: {read: 600, total: 600}")
        running = threading.Thread(target=lambda: found.append(run_once(text, tmp_path, stop=stop)[0]))
        running.start()
        assert asked.wait(60)
        stop.set()
        running.join(30)
        hold.set()
    assert not running.is_alive() and found[0].outcome is RunOutcome.CANCELLED


@pytest.mark.parametrize(("status", "code"), [(401, "source.credentials_refused"), (403, "source.permission_denied")])
def test_who_is_not_known_and_who_may_not_are_two_things(tmp_path: Path, status: int, code: str) -> None:
    def answer(request: Request) -> Answer:
        return Answer({"items": ROWS}) if request.path.endswith("others") else Answer({}, status)

    tables = table("") + "\n  - {table: others, get: /others, records: items, primary_key: id}"
    result, _ = run(answer, tmp_path, tables, "tables: [things, others]")
    assert result.error["code"] == code
    # One table that may not be read leaves the others alone; a source that knows nobody ends the run.
    assert [t.phase for t in result.tables] == ["failed", "done" if status == 403 else "skipped"]


def test_each_warehouse_keeps_its_own_rejects_and_a_replay_reaches_all(tmp_path: Path) -> None:
    text = "connector: c\ntype: http\nsettings: {url: {type: url}}\nbase_url: '{settings.url}'\n"
    text += "tables: [{table: things, get: /t, primary_key: id}]\n---\n"
    text += "source: test\nconnector: c\nsettings: {url: 'URL'}\n---\nwarehouse: one\ntype: sqlite\npath: marsh.db\n---\n"
    text += "warehouse: two\ntype: duckdb\npath: two.duckdb\n---\nfeed: test\nfrom: test\ninto: [one, two]\n"
    text += "tables: [{table: things, write: upsert, cast: {n: KIND}}]\n"
    rows = [{"id": n, "n": n if n != 3 else "a few"} for n in range(5)]
    with serving(lambda request: Answer(rows)) as source:
        text = text.replace("URL", source.url)
        _, heard = run_once(text.replace("KIND", "int64"), tmp_path)
        assert sorted(heard.rejected_in) == ["", "two"]
        again = {(name, "things"): Replayed([rows[3]], [1]) for name in ("one", "two")}
        order = order_for(text.replace("KIND", "text"), run=2)
        result = run_feed(
            order, run_context_for(order, tmp_path), listener=Heard(), clock=lambda: datetime.now(UTC), again=again
        )
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    with duckdb.connect(str(tmp_path / "two.duckdb")) as two:
        assert two.execute("select n from things where id = 3").fetchall() == [("a few",)]
    assert {row["id"]: row["n"] for row in table_rows(tmp_path, "things")}[3] == "a few"
