"""One run as a whole: several tables, what fails and what goes on, the queue between reader and loader, plans."""

from __future__ import annotations

import hmac
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.errors import SourceFailed
from reedbasket.core.masking import Mask
from reedbasket.core.records.bounded_queue import MOST_WAITING_BYTES
from reedbasket.core.runs import RunOutcome, plan_feed
from reedbasket.core.sources.batching import BackgroundReader
from reedbasket.core.sources.chunk import Chunk
from tests.support.feeds import SECRET, Heard, basket_text, order_for, run_context_for, run_once, table_rows
from tests.support.source import Answer, Changing, Request, serving

SHIPS = [{"id": f"S{i}", "name": f"ship {i}", "updated_at": f"2026-03-01T06:{i:02d}:00Z"} for i in range(20)]


def two_tables(url: str, **choices: Any) -> str:
    """The test basket with a second table, `ships`, and a third that the feed leaves out."""
    text = basket_text(url, **choices)
    begin, end = text.index("  - table: things\n    get"), text.index("---\nsource")
    table = text[begin:end]
    more = table.replace("things", "ships") + table.replace("things", "crews")
    text = text[:end] + more + text[end:]
    return text.replace("tables: [{table: things,", "table_prefix: t_\ntables: [ships, {table: things,")


class Paths:
    """Different answers by path."""

    def __init__(self, **handlers: Any) -> None:
        self.handlers = handlers

    def __call__(self, request: Request) -> Answer:
        found = self.handlers[request.path.strip("/")](request)
        assert isinstance(found, Answer)
        return found


def test_one_table_fails_and_the_others_go_on(tmp_path: Path) -> None:
    source_handler = Paths(ships=lambda _: Answer({"wrong": 1}), things=Changing(list(SHIPS)))
    with serving(source_handler) as source:
        result, heard = run_once(two_tables(source.url), tmp_path)
    assert result.outcome is RunOutcome.FAILED
    assert [(t.table, t.phase) for t in result.tables] == [("ships", "failed"), ("things", "done")]
    assert result.error == result.tables[0].error
    assert result.error is not None
    assert result.error["code"] == "source.records_not_found"
    assert "an object with wrong" in result.error["found"]
    assert len(table_rows(tmp_path, "t_things")) == 20
    assert ("info", "table.ignored", "tables of the connector, not part of this feed: crews") in heard.lines


def test_a_source_that_refuses_is_not_asked_for_every_table(tmp_path: Path) -> None:
    with serving(lambda _: Answer({}, 401)) as source:
        result, _ = run_once(two_tables(source.url), tmp_path)
        assert len(source.requests) == 1
    assert [(t.table, t.phase) for t in result.tables] == [("ships", "failed"), ("things", "skipped")]


def test_rejects_cost_one_record_each_and_are_counted(tmp_path: Path) -> None:
    records: list[Any] = [{**s, "seats": 10} for s in SHIPS]
    records[4] = {**records[4], "id": None}
    with serving(Changing(records)) as source:
        _, heard = run_once(basket_text(source.url), tmp_path)
        assert [(line.read, line.inserted, line.rejected) for line in heard.ledger] == [(20, 19, 1)]
        records.append({**SHIPS[0], "id": "S90", "seats": "many", "updated_at": "2026-03-01T07:00:00Z"})
        records.append({**SHIPS[0], "id": "S91", "seats": 5, "updated_at": "2026-03-01T07:00:00Z"})
        strict = basket_text(source.url, feed="on_drift: {changed_type: reject}\nmax_rejects: 1")
        result, heard = run_once(strict, tmp_path, run=2)
        assert (result.outcome, result.tables[0].rejected) == (RunOutcome.SUCCEEDED, 1)
        assert [(line.read, line.inserted, line.rejected) for line in heard.ledger] == [(2, 1, 1)]
        assert heard.rejected[0].record["id"] == "S90"
        # It is behind the cursor now: neither rejected again nor forgotten.
        again, heard = run_once(strict, tmp_path, run=3)
        assert (again.tables[0].read, again.tables[0].repeated, heard.rejected) == (0, 2, [])
        records += [{**SHIPS[0], "id": f"S9{n}", "seats": "none", "updated_at": "2026-03-01T08:00:00Z"} for n in range(2, 5)]
        failed, _ = run_once(strict, tmp_path, run=4)
    assert failed.error is not None
    assert failed.error["code"] == "run.too_many_rejects"


def test_members_of_the_list_that_are_no_objects_are_rejects(tmp_path: Path) -> None:
    odd = Answer({"items": [SHIPS[0], 5, None, "x", SHIPS[1]], "meta": {"next": None}})
    with serving(lambda _: odd) as source:
        _, heard = run_once(basket_text(source.url), tmp_path)
    assert [r.code for r in heard.rejected] == ["record.not_an_object"] * 3
    assert [(line.read, line.inserted, line.rejected) for line in heard.ledger] == [(5, 2, 3)]


def test_a_feed_may_be_written_in_another_way(tmp_path: Path) -> None:
    with serving(Changing(list(SHIPS))) as source:
        for _ in range(2):  # by everything, appended twice
            run_once(basket_text(source.url, write="append", by="full", key=""), tmp_path)
        assert len(table_rows(tmp_path, "things")) == 40
        merged, heard = run_once(basket_text(source.url, by="full"), tmp_path, run=2)
        assert (merged.outcome, heard.ledger[0].unchanged) == (RunOutcome.SUCCEEDED, 20)
        assert "20 rows with a repeated key removed, and the newest kept" in [
            m for _, c, m in heard.lines if c == "table.migrated"
        ]
        run_once(basket_text(source.url), tmp_path, run=3)
        run_once(basket_text(source.url, write="versions"), tmp_path, run=4)
        assert len(table_rows(tmp_path, "things")) == 20
        order = order_for(basket_text(source.url), run=5)
        (planned,) = plan_feed(order, run_context_for(order, tmp_path))
        assert planned.losses == ["the older versions of its rows; only the current ones stay"]
        refused, _ = run_once(basket_text(source.url), tmp_path, run=5)
        assert refused.error is not None
        assert (refused.error["code"], "--allow-loss" in refused.error["fix"]) == ("definition.would_lose_data", True)
        accepted, _ = run_once(basket_text(source.url), tmp_path, run=6, accept=True)
        # The cursor kept its meaning all the way: nothing was read again.
        assert (accepted.outcome, accepted.tables[0].read) == (RunOutcome.SUCCEEDED, 0)
        assert "_rb_valid_until" not in table_rows(tmp_path, "things", own=True)[0]
        other = basket_text(source.url, cursor="").replace("column: updated_at", "column: id, type: text")
        moved, heard = run_once(other, tmp_path, run=7)
    assert (moved.outcome, moved.tables[0].read, heard.ledger[0].unchanged) == (RunOutcome.SUCCEEDED, 20, 20)


def test_compare_writes_only_what_differs(tmp_path: Path) -> None:
    records: list[Any] = [{**s, "kids": [{"n": 1}]} for s in SHIPS]
    source_handler = Changing(records, page=8)
    with serving(source_handler) as source:
        text = basket_text(source.url, by="compare", write="mirror", cursor="")
        first, _ = run_once(text, tmp_path)
        assert (first.tables[0].read, first.tables[0].inserted) == (20, 20)
        nothing, heard = run_once(text, tmp_path, run=2)
        assert (nothing.tables[0].unchanged, nothing.tables[0].staged, heard.ledger) == (20, 0, [])
        records[3] = {**records[3], "name": "renamed"}
        records[4] = {**records[4], "kids": [{"n": 2}]}
        records.append({**records[0], "id": "S99"})
        del records[10]
        third, heard = run_once(text, tmp_path, run=3)
        line = heard.ledger[0]
        assert (line.read, line.inserted, line.updated, line.unchanged, line.removed) == (20, 1, 1, 18, 1)
        assert third.tables[0].staged == 3
        whole = records[5]
        records[5] = {**whole, "id": None}  # its key cannot be read: it may be of any row that is missed now, and none goes
        del records[12]
        fourth, heard = run_once(text, tmp_path, run=4)
        assert (fourth.tables[0].rejected, heard.ledger[0].removed) == (1, 0)
        records[5] = whole
        fifth, heard = run_once(text, tmp_path, run=5)
        assert (fifth.tables[0].rejected, heard.ledger[0].removed, heard.ledger[0].inserted) == (0, 1, 0)
    rows = {r["id"]: r for r in table_rows(tmp_path, "things")}
    assert (len(rows), rows["S3"]["name"], "S10" in rows, "S5" in rows) == (19, "renamed", False, True)
    assert {k["_rb_parent"] for k in table_rows(tmp_path, "things_kids")} == set(rows)


def test_columns_are_worked_on_in_the_documented_order(tmp_path: Path) -> None:
    records = [
        {"id": f"B{n}", "pax": n, "fare": {"amount": 10, "tax": "x"}, "status": "test" if n == 2 else "paid", "mail": f"m{n}",
         "updated_at": f"2026-03-01T06:0{n}:00Z", "legs": [{"from": "a", "secret": 1}]}
        for n in range(5)
    ]  # fmt: skip
    records.append({**records[0], "id": "B9", "pax": None, "fare": {"amount": 0}})
    table = """exclude_columns: [fare_tax, legs.secret], hash: [mail, legs.origin], rename: {pax: passengers, legs.from: origin},
      compute: {revenue: "fare_amount * passengers", domain: "upper(mail)", share: "cast(100 // fare_amount as varchar)"},
      cast: {pax: decimal}, filter: "status <> 'test'", constants: {region: marsh}"""
    with serving(Changing(list(records))) as source:
        text = basket_text(source.url, table=table)
        result, heard = run_once(text, tmp_path)
        again, _ = run_once(text, tmp_path, run=2)
    rows = {r["id"]: r for r in table_rows(tmp_path, "things")}
    assert (result.outcome, sorted(rows)) == (RunOutcome.SUCCEEDED, ["B0", "B1", "B3", "B4"])
    assert (heard.ledger[0].read, heard.ledger[0].filtered, heard.ledger[0].rejected) == (5, 1, 1)
    assert (heard.rejected[0].code, heard.rejected[0].record["id"]) == ("value.expression_failed", "B9")
    assert list(rows["B3"]) == [
        "id", "passengers", "fare_amount", "status", "mail", "updated_at", "revenue", "domain", "share", "region",
    ]  # fmt: skip
    assert (rows["B3"]["passengers"], rows["B3"]["domain"], rows["B3"]["region"], rows["B3"]["revenue"]) == (
        "3",
        "M3",
        "marsh",
        "30",
    )
    keyed = hmac.new(SECRET.encode(), b"m3", "sha256").hexdigest()
    assert (rows["B3"]["mail"], rows["B3"]["share"]) == (keyed, "10")
    legs = table_rows(tmp_path, "things_legs")
    assert (len(legs), set(legs[0])) == (4, {"_rb_parent", "_rb_ordinal", "origin"})
    assert legs[0]["origin"] == hmac.new(SECRET.encode(), b"a", "sha256").hexdigest()
    assert (again.tables[0].read, again.tables[0].repeated) == (0, 1)


def test_a_plan_asks_for_a_page_and_writes_nothing(tmp_path: Path) -> None:
    records = list(SHIPS)
    with serving(Changing(records, page=8)) as source:
        order = order_for(basket_text(source.url))

        def plan() -> Any:
            (planned,) = plan_feed(order, run_context_for(order, tmp_path))
            return planned

        first = plan()
        assert not list(tmp_path.iterdir())
        assert (first.exists, first.records, first.requests, first.sample_records) == (False, 20, 3, 8)
        assert [c["name"] for c in first.new_columns] == ["id", "name", "updated_at"]
        run_once(basket_text(source.url), tmp_path)
        records.append({**SHIPS[0], "id": "S99", "flag": True, "updated_at": "2026-03-01T08:00:00Z"})
        second = plan()
    assert (second.exists, second.cursor_from, second.records) == (True, "2026-03-01T06:19:00Z", 1)
    assert second.new_columns == [{"name": "flag", "type": "bool"}]
    assert len(table_rows(tmp_path, "things")) == 20


def test_the_queue_is_bounded_in_bytes_and_reading_overlaps_loading() -> None:
    made: list[int] = []

    def chunks() -> Iterator[Chunk]:
        for number in range(40):
            made.append(number)
            yield Chunk([{"n": number}], MOST_WAITING_BYTES // 4, [])

    with BackgroundReader(chunks(), "test") as feeder:
        taken = []
        for chunk in feeder:
            if not taken:
                ends = time.monotonic() + 5
                while len(made) < 5 and time.monotonic() < ends:
                    time.sleep(0.01)
                # Read ahead, but no further than the bytes allow: four wait, one is being made.
                assert 5 <= len(made) <= 6
            taken.append(chunk.records[0]["n"])
            assert len(made) <= len(taken) + 6
    assert taken == list(range(40))


def test_the_readers_error_comes_after_what_it_read_and_leaving_ends_its_thread() -> None:
    def failing() -> Iterator[Chunk]:
        yield Chunk([{"n": 1}], 10, [])
        raise SourceFailed("reading", found="500")

    seen = []
    with pytest.raises(SourceFailed), BackgroundReader(failing(), "fails") as feeder:
        for chunk in feeder:
            seen.append(chunk)
    assert len(seen) == 1

    def endless() -> Iterator[Chunk]:
        while True:
            yield Chunk([{}], MOST_WAITING_BYTES, [])

    with BackgroundReader(endless(), "left alone") as feeder:
        next(iter(feeder))
    assert not any(t.name == "read left alone" for t in threading.enumerate())


def test_masks_find_secrets_in_every_form() -> None:
    mask = Mask(["a/b+c d", "a/b+c d e", ""])
    said = mask.value({"plain": "x a/b+c d e y", "in url": ["q=a%2Fb%2Bc+d", "q=a%2Fb%2Bc%20d"], "n": 5})
    assert said == {"plain": "x ••• y", "in url": ["q=•••", "q=•••"], "n": 5}
    assert "a/b" not in repr(mask)


def test_a_missing_secret_and_a_warehouse_out_of_reach(tmp_path: Path) -> None:
    from reedbasket.core.errors import SecretMissing
    from reedbasket.core.runs import run_feed

    def none(name: str) -> str:
        raise SecretMissing("looking up the secret", name, fix=f"set it with `reed secret set {name}`")

    order, heard = order_for(basket_text("http://127.0.0.1:9")), Heard()
    context = replace(run_context_for(order, tmp_path), reveal=none)
    result = run_feed(order, context, listener=heard, clock=lambda: datetime.now(UTC))
    assert (result.outcome, result.tables[0].phase) == (RunOutcome.FAILED, "skipped")
    assert heard.codes() == ["secret.missing"]

    (tmp_path / "marsh.db").write_bytes(b"this is no database, and longer than a header of one would be" * 20)
    with serving(Changing(list(SHIPS))) as source:
        result, _ = run_once(basket_text(source.url), tmp_path)
    assert result.error is not None
    assert result.error["code"] == "warehouse.failed"
    assert "not a database" in result.error["found"]
