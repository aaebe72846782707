"""Changes by comparing: what differs is passed on and nothing else, whatever the keys look like and wherever it is loaded."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.execution.compare import Comparer
from tests.support.feeds import basket_text, run_once
from tests.support.source import Changing, serving
from tests.support.warehouses import Place

Rows = list[dict[str, Any]]


def passed(records: Rows, saved: bytes | None, key: Iterable[str] = ("id",), batch: int = 3) -> tuple[Rows, Comparer]:
    """What one pass lets through."""
    comparer = Comparer(list(key), saved)
    through: Rows = []
    for start in range(0, len(records), batch):
        through += comparer.take(records[start : start + batch]).records
    return through, comparer


def keys_of(*worlds: Rows, key: Iterable[str] = ("id",)) -> Any:
    """As the warehouse tells them: those of all rows ever loaded."""
    return lambda: [sorted({tuple(r[k] for k in key) for world in worlds for r in world})]


keys = st.one_of(
    st.lists(st.integers(-(2**63) + 1, 2**63 - 1), unique=True, max_size=12),
    st.lists(st.text(max_size=3), unique=True, max_size=12),
)
contents = st.dictionaries(st.sampled_from("abc"), st.integers(0, 2) | st.text(max_size=1), max_size=2)


@pytest.mark.slow
@settings(max_examples=150)
@given(keys, st.data())
def test_a_pass_lets_through_what_differs(held: Any, data: st.DataObject) -> None:
    before = [{"id": key, **data.draw(contents)} for key in held]
    after = [
        r if data.draw(st.booleans()) else {"id": r["id"], **data.draw(contents)} for r in before if data.draw(st.booleans())
    ]
    after += [{"id": key, "new": 1} for key in ([max(held) - 1] if held and isinstance(held[0], int) else ["long enough"])]
    after = list({r["id"]: r for r in after}.values())
    everything, first = passed(before, None)
    assert (everything, first.compared) == (before, False)
    saved = first.hashes_to_keep()
    through, second = passed(after, saved)
    # A record whose fields come in another order is passed on too, for the merge to find unchanged.
    as_sent = {tuple(r.items()) for r in before}
    assert through == [r for r in after if tuple(r.items()) not in as_sent]
    gone = second.missing_keys(keys_of(before))
    assert sorted(gone) == sorted((r["id"],) for r in before if r["id"] not in {a["id"] for a in after})
    nothing, third = passed(after, second.hashes_to_keep())
    assert (nothing, third.missing_keys(keys_of(before, after))) == ([], [])


def test_keys_of_several_columns_and_a_key_that_comes_twice() -> None:
    world = [{"line": "A", "n": 1, "v": 1}, {"line": "A", "n": 2, "v": 1}, {"line": "A", "n": 1, "v": 2}]
    _, first = passed(world, None, key=("line", "n"), batch=1)
    # The later one counts: it was loaded.
    through, second = passed([world[2], world[1]], first.hashes_to_keep(), key=("line", "n"))
    assert through == []
    through, third = passed([world[0]], second.hashes_to_keep(), key=("line", "n"))
    assert through == [world[0]]
    assert third.missing_keys(keys_of(world, key=("line", "n"))) == [("A", 2)]


def test_whole_numbers_need_no_look_at_the_warehouse_and_other_keys_make_it_compare_anew() -> None:
    world: Rows = [{"id": n} for n in range(10)]
    _, first = passed(world, None)
    _, second = passed(world[:8], first.hashes_to_keep())

    def never() -> Any:
        raise AssertionError("the keys say it themselves")

    assert second.missing_keys(never) == [(8,), (9,)]
    # A text among them: what is kept could not be told from text keys of the same look, so nothing is.
    for odd in ({"id": "8"}, {"id": 2**70}):
        _, third = passed([*world[:8], odd], second.hashes_to_keep())
        assert third.hashes_to_keep() is None
    # Rejected, it is passed on next time as well, and does no harm.
    _, fourth = passed([*world[:8], {"id": None}], second.hashes_to_keep())
    fourth.retry([{"id": None}, {"id": 3}, "no record at all"])
    through, _ = passed(world[:8], fourth.hashes_to_keep())
    assert through == [{"id": 3}]


def test_what_another_version_kept_is_not_believed() -> None:
    saved = passed([{"id": 1}], None)[1].hashes_to_keep()
    assert saved is not None
    through, comparer = passed([{"id": 1}], b"other/1\n" + saved[8:])
    assert (through, comparer.compared) == ([{"id": 1}], False)


@pytest.mark.parametrize("write", ["mirror", "upsert", "versions"])
@pytest.mark.parametrize("key", ["n", "id"])
def test_a_feed_that_compares_in_every_warehouse(place: Place, write: str, key: str, tmp_path: Path) -> None:
    def record(number: int, version: int = 1) -> dict[str, Any]:
        return {"id": f"K{number}", "n": number, "v": version, "updated_at": "2026-03-01T06:00:00Z", "kids": [{"c": version}]}

    records = [record(number) for number in range(30)]
    source_list = Changing(records, page=7)
    with serving(source_list) as source:
        text = basket_text(source.url, key=key, by="compare", write=write, cursor="", warehouse=place.as_yaml)
        run_once(text, place.folder)
        records[3], records[4] = record(3, 2), {**record(4), "kids": []}
        records.append(record(99))
        del records[10]
        second, heard = run_once(text, place.folder, run=2)
        assert (second.outcome, second.tables[0].staged) == (RunOutcome.SUCCEEDED, 3), second.error
        line = heard.ledger[0]
        assert (line.read, line.inserted, line.unchanged, line.removed) == (30, 1, 28, 1)
        _, third = run_once(text, place.folder, run=3)
        assert third.ledger == []
    current = " where _rb_valid_until is null" if write == "versions" else ""
    assert place.ask(f"select count(*), sum(v) from things{current}") == [(30, 31)]
    assert place.ask(f"select count(*) from things_kids{current}") == [(29,)]
    if write == "versions":
        assert place.ask("select v from things where n = 3 order by _rb_valid_from") == [(1,), (2,)]
        assert place.ask("select count(*) from things where _rb_valid_until is not null") == [(2,)]


def test_keys_that_were_text_once_and_are_numbers_again(place: Place) -> None:
    records: Rows = [{"id": n, "updated_at": "2026-03-01T06:00:00Z"} for n in range(5)]
    records.append({**records[0], "id": "odd"})
    with serving(Changing(records)) as source:
        text = basket_text(source.url, by="compare", write="mirror", cursor="", warehouse=place.as_yaml)
        run_once(text, place.folder)
        del records[5]
        for run in (2, 3):
            assert run_once(text, place.folder, run=run)[0].outcome is RunOutcome.SUCCEEDED
        del records[4]
        last, heard = run_once(text, place.folder, run=4)
    assert last.outcome is RunOutcome.SUCCEEDED, last.error
    assert heard.ledger[0].removed == 1
    assert place.ask("select id from things order by id") == [("0",), ("1",), ("2",), ("3",)]
