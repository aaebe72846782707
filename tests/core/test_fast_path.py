"""Pages read straight into columns come to the same as records looked at one by one, whatever a page brings."""

from __future__ import annotations

import json
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from reedbasket.core.records.column_records import ColumnRecords
from reedbasket.core.records.json_body import parse
from reedbasket.core.shaping import Shaper, TableShape
from reedbasket.core.sources.json_columns import ColumnBodies

KNOWN = {
    "id": 1,
    "name": "x",
    "weight": 1.5,
    "open": True,
    "at": "2026-03-02T06:00:00Z",
    "day": "2026-03-02",
    "none": None,
    "place": {"berth": 1, "lat": 0.5},
    "lines": [{"item": "a", "count": 1, "stops": [{"at": "y"}]}, {"item": None, "count": 2}],
}
values = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(2**65), 2**65),
    st.sampled_from([2**53 + 1, -(2**63), 1e300, 0.1, 2.0]),
    st.floats(allow_nan=False, allow_infinity=False),
    st.text(max_size=5),
    st.sampled_from(["2026-03-02T06:00:00Z", "2026-03-02", "2026-02-30", "", "\x00"]),
    st.lists(st.integers(0, 3), max_size=2),
    st.dictionaries(st.sampled_from(["berth", "lat", "new"]), st.integers(0, 9), max_size=2),
    st.lists(st.fixed_dictionaries({}, optional={"item": st.text(max_size=2), "count": st.integers(0, 9)}), max_size=3),
)


@st.composite
def pages(draw: st.DrawFn) -> list[list[dict[str, Any]]]:
    """Of the known record, now and then with a field that is something else, new, or not there."""
    made = []
    for page in range(draw(st.integers(1, 4))):
        records = []
        for place in range(draw(st.integers(0, 3))):
            record = {**KNOWN, "id": 10 * page + place}
            for name in draw(st.lists(st.sampled_from([*KNOWN, "new", "Name"]), max_size=1)):
                value = draw(st.one_of(values, st.just(...)))
                record = {n: v for n, v in (record | {name: value}).items() if v is not ...}
            records.append(record)
        made.append(records)
    return made


def both(made: list[list[dict[str, Any]]], **rules: Any) -> tuple[int, list[Any], list[Any]]:
    """(pages that were read as columns, what each way comes to)."""
    plain, fast = (Shaper(TableShape("t"), ["id"], "key") for _ in range(2))
    bodies = ColumnBodies(lambda: fast.expected_columns, "data.items", ["meta.next"])
    known = [[KNOWN, {**KNOWN, "id": 2, "lines": []}]]
    count, mine, theirs = 0, list[Any](), list[Any]()
    for number, records in enumerate(known + made):
        raw = json.dumps({"data": {"items": records}, "meta": {"next": f"2026-01-0{number + 1}", "total": 7}}).encode()
        body = parse(raw)[0]
        opened = bodies.open(raw)
        taken: Any = body["data"]["items"]
        if opened is not None:
            count += 1
            around, taken = opened
            assert around == {"data": {}, "meta": body["meta"]}
            assert list(taken) == body["data"]["items"] and isinstance(taken, ColumnRecords)
        bodies.learn(body)
        mine.append(seen(fast, fast.shape(taken, 5)))
        theirs.append(seen(plain, plain.shape(body["data"]["items"], 5)))
    mine.append([change.words for change in fast.compare_with_expected()])
    theirs.append([change.words for change in plain.compare_with_expected()])
    return count, mine, theirs


def seen(shaper: Shaper, shaped: Any) -> Any:
    batches = [
        (
            batch.table,
            batch.rows,
            list(batch.owners),
            batch.parents,
            batch.positions,
            {
                name: (kind, data.to_pylist() if isinstance(data, pa.Array) else data)
                for name, (kind, data) in sorted(batch.columns.items())
                if batch.rows
            },
        )
        for batch in shaped.batches
    ]
    rejects = [(reject.index, reject.code, reject.record) for reject in shaped.rejects]
    kinds = {column.name: column.kind for column in shaper.structure.columns()}
    return batches, rejects, kinds, [change.words for change in shaped.changes]


@pytest.mark.slow
@settings(max_examples=300)
@given(pages())
def test_the_same_as_looked_at_one_by_one(made: list[list[dict[str, Any]]]) -> None:
    _, mine, theirs = both(made)
    assert mine == theirs


def test_pages_as_expected_are_read_as_columns() -> None:
    later = [{**KNOWN, "id": n, "name": None if n % 2 else "y", "lines": KNOWN["lines"] * (n % 3)} for n in range(10, 20)]
    count, mine, theirs = both([later, [], later])
    assert count == 3
    assert mine == theirs


@pytest.mark.parametrize(
    "record",
    [
        b'{"id": 3, "id": 4}',
        b'{"id": 3, "name": "\\ud800"}',
        b'{"id": 3, "name": "\xff"}',
        b'{"id": 3, "weight": 9007199254740993}',
        b'{"id": 3, "weight": 0.1234567890123456789}',
        b'{"id": 3, "weight": NaN}',
        b'{"id": null}',
        b"null, " + json.dumps(KNOWN).encode(),
        b'{"id": 3, "none": 1}',
        b'{"id": 3, "new": 1}',
    ],
)
def test_what_is_not_exactly_as_expected_is_left_to_the_walk(record: bytes) -> None:
    shaper = Shaper(TableShape("t"), ["id"], "key")
    bodies = ColumnBodies(lambda: shaper.expected_columns, "@", [])
    shaper.shape([KNOWN], 0)
    bodies.learn([KNOWN])
    assert bodies.open(json.dumps([KNOWN]).encode()) is not None
    opened = bodies.open(b"[" + record + b"]")
    assert opened is None or (shaper.expected_columns is not None and not _goes(shaper, opened[1]))


def _goes(shaper: Shaper, records: ColumnRecords) -> bool:
    from reedbasket.core.shaping.fast_path import shape_columns

    return shape_columns(shaper.structure, ["id"], records.columns, 0, set()) is not None
