"""Runs from HTTP to table in every warehouse: shaping, drift and rejects end the same whichever engine holds the rows."""

from __future__ import annotations

import hmac
import json
from typing import Any

import pytest

from reedbasket.contracts.place import columns_of
from reedbasket.core.runs import RunOutcome, RunResult
from tests.support.feeds import SECRET, Heard, basket_text, run_once
from tests.support.source import Changing, serving
from tests.support.warehouses import Place


class Feed:
    """A feed into one place; each run reads all there is."""

    def __init__(self, place: Place, url: str, **choices: Any) -> None:
        self._place = place
        self._choices: dict[str, Any] = {"by": "full", "write": "upsert", "cursor": "", **choices}
        self._url, self._runs = url, 0

    def run(self, **now: Any) -> tuple[RunResult, Heard]:
        self._runs += 1
        text = basket_text(self._url, warehouse=self._place.as_yaml, **{**self._choices, **now})
        return run_once(text, self._place.folder, run=self._runs)


def thing(number: int, **more: Any) -> dict[str, Any]:
    return {"id": number, "name": f"n{number}", "at": {"berth": number, "quay": "east"}, **more}


def test_columns_are_shaped_alike(place: Place) -> None:
    records = [thing(n, tags=[{"t": n, "deep": [{"x": 1}]}], note=None if n == 1 else "") for n in range(4)]
    table = """exclude_columns: [at_quay, tags.gone], rename: {name: label}, cast: {at_berth: text, at.berth: int64}, hash: [label, nmae],
               filter: "id <> 3",
               compute: {twice: "id * 2", said: "coalesce(note, 'none')"}, constants: {region: marsh}, nesting: {lists: json}"""
    with serving(Changing(records)) as source:
        result, heard = Feed(place, source.url, table=table).run()
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert (heard.ledger[0].read, heard.ledger[0].filtered, len(heard.ledger)) == (3, 1, 1)
    rows = place.ask("select id, label, at_berth, tags, note, twice, said, region from things order by id")
    # A slip of the pen is told, for it would leave a column as it is.
    told = [message.rpartition("names: ")[2] for _, code, message in heard.lines if code == "shaping.unmatched"]
    assert told == ["exclude_columns: tags.gone", "cast: at.berth", "hash: nmae"]
    for number, row in enumerate(rows):
        keyed = hmac.new(SECRET.encode(), f"n{number}".encode(), "sha256").hexdigest()
        assert row[:3] == (number, keyed, str(number))
        tags = json.loads(row[3]) if isinstance(row[3], str) else row[3]
        assert tags == [{"t": number, "deep": [{"x": 1}]}]
        # The empty string is a value; only null is none.
        assert row[4:] == (None if number == 1 else "", 2 * number, "none" if number == 1 else "", "marsh")


def test_what_the_source_does_to_its_structure(place: Place) -> None:
    records = [thing(n) for n in range(3)]
    with serving(Changing(records)) as source:
        feed = Feed(place, source.url)
        feed.run()
        before = place.ask("select * from things order by id")
        records[0] = thing(0, late=1.5, kids=[{"c": 1}])
        ignored, heard = feed.run(feed="on_drift: {new_column: ignore, new_table: ignore}")
        assert (ignored.outcome, {c.ignored for c in heard.drifted}) == (RunOutcome.SUCCEEDED, {True})
        assert (place.ask("select * from things order by id"), columns_of(place, "things_kids")) == (before, {})
        for policy, name in (("new_column", "late"), ("new_table", "kids")):
            stopped, _ = feed.run(feed=f"on_drift: {{{policy}: fail}}")
            assert stopped.error is not None
            assert (stopped.outcome, name in stopped.error["found"]) == (RunOutcome.FAILED, True)
        assert place.ask("select * from things order by id") == before
        _, heard = feed.run()
        told = sorted((c.what, c.table, c.column) for c in heard.drifted)
        assert told == [("column", "things", "late"), ("column", "things_kids", "c"), ("table", "things_kids", "")]
        assert place.ask("select id, late from things order by id") == [(0, 1.5), (1, None), (2, None)]

        before = place.ask("select id, name, late from things order by id")
        for record in records:
            record.pop("name")
        stopped, _ = feed.run(feed="on_drift: {missing_column: fail}")
        assert stopped.error is not None
        assert (stopped.outcome, stopped.error["code"], "name" in stopped.error["found"]) == (
            RunOutcome.FAILED,
            "drift.failed",
            True,
        )
        assert place.ask("select id, name, late from things order by id") == before
        _, heard = feed.run()
        assert [(c.what, c.column) for c in heard.drifted] == [("vanished", "name")]
        assert place.ask("select name from things") == [(None,)] * 3
        assert feed.run()[1].drifted == []  # said once

        records[1]["id"] = "one"
        refused, heard = feed.run(feed="on_drift: {changed_type: reject}")
        assert (refused.outcome, [r.code for r in heard.rejected]) == (RunOutcome.SUCCEEDED, ["value.wrong_type"])
        stopped, _ = feed.run(feed="on_drift: {changed_type: fail}")
        assert stopped.error is not None
        assert stopped.error["code"] == "drift.failed"
        assert place.ask("select count(*) from things") == [(3,)]
        feed.run()
    assert place.ask("select id from things order by id") == [("0",), ("1",), ("2",), ("one",)]


def test_records_that_cannot_be_loaded(place: Place) -> None:
    records: list[Any] = [thing(1), {"id": None}, {"name": "no key"}, thing(2), thing(2, name="again"), thing(3)]
    with serving(Changing(records)) as source:
        feed = Feed(place, source.url)
        _, heard = feed.run()
        line = heard.ledger[0]
        assert (line.read, line.inserted, line.superseded, line.rejected) == (6, 3, 1, 2)
        assert sorted(r.code for r in heard.rejected) == ["key.missing", "key.missing"]
        assert place.ask("select id, name from things order by id") == [(1, "n1"), (2, "again"), (3, "n3")]
        stopped, heard = feed.run(feed="max_rejects: 1")
        assert stopped.error is not None
        assert (stopped.outcome, stopped.error["code"], len(heard.ledger)) == (RunOutcome.FAILED, "run.too_many_rejects", 0)
        records.clear()
        empty, _ = feed.run()
        assert (empty.outcome, empty.tables[0].read) == (RunOutcome.SUCCEEDED, 0)
        mirrored, heard = feed.run(write="mirror")
        assert (mirrored.outcome, heard.ledger[0].removed) == (RunOutcome.SUCCEEDED, 3)


@pytest.mark.parametrize("mode", ["replace", "versions"])
def test_a_parent_that_changes_takes_its_children_along(place: Place, mode: str) -> None:
    records = [thing(n, kids=[{"c": n, "deep": [{"d": n}]}]) for n in range(3)]
    current = " where _rb_valid_until is null" if mode == "versions" else ""
    with serving(Changing(records)) as source:
        feed = Feed(place, source.url, write=mode)
        feed.run()
        records[1]["kids"] = [{"c": 7, "deep": []}, {"c": 8, "deep": [{"d": 1}, {"d": 2}]}]
        _, heard = feed.run()
    assert all(line.reconciles for line in heard.ledger)
    kids = place.ask(f"select _rb_parent, _rb_ordinal, c from things_kids{current} order by 1, 2")
    assert kids == [(0, 0, 0), (1, 0, 7), (1, 1, 8), (2, 0, 2)]
    deep = place.ask(f"select _rb_parent, d from things_kids_deep{current} order by 1, 2")
    assert deep == [("0/0", 0), ("1/1", 1), ("1/1", 2), ("2/0", 2)]
    if mode == "versions":
        assert place.ask("select c from things_kids where _rb_valid_until is not null") == [(1,)]
        assert place.ask("select count(*) from things") == [(3,)]
