"""Records to columns: types, names, nesting, and what does not fit."""

from __future__ import annotations

from decimal import Decimal
from types import SimpleNamespace
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from reedbasket.core.errors import DriftFailed
from reedbasket.core.records.exact_json import dump
from reedbasket.core.records.names import LONGEST_NAME_BYTES, claim, fold
from reedbasket.core.shaping import DriftPolicy, Shaper, ShapeRules, TableShape
from reedbasket.core.shaping.values import infer


def shape(records: list[dict[str, Any]], shaper: Shaper | None = None, key: str = "id") -> Any:
    shaper = shaper or Shaper(TableShape("t"), [key] if key else [], "key" if key else "row")
    shaped = shaper.shape(records, 0)
    return SimpleNamespace(structure=shaper.structure, structure_data=shaper.structure.to_data(), **vars(shaped))


def column(shaped: Any, name: str, batch: int = 0) -> tuple[str, list[Any]]:
    kind, data = shaped.batches[batch].columns[name]
    return kind, data.to_pylist() if isinstance(data, pa.Array) else data


@pytest.mark.parametrize(
    ("values", "kind"),
    [
        ([None, None], None),
        ([True, None, False], "bool"),
        ([1, -(2**63), 2**63 - 1], "int64"),
        ([1, 2**63], "decimal"),
        ([1, 2.5], "double"),
        ([2**53 + 1, 0.5], "decimal"),
        ([Decimal("0.1234567890123456789"), 1, None], "decimal"),
        (["2026-03-02", None], "date"),
        (["2026-03-02T06:00:00Z", "2026-03-02 06:00:00.25+02:00"], "timestamp"),
        (["2026-03-02T06:00:00"], "text"),  # no zone: which instant it is, nobody knows
        (["2026-02-30"], "text"),
        (["2026-03-02", "2026-03-02T06:00:00Z"], "timestamp"),
        (["2026-03-02T06:00:00Z", "2026-03-02"], "timestamp"),
        (["2026-03-02T06:00:00Z", "2026-02-30"], "text"),
        (["007", "7"], "text"),
        ([1, "A"], "text"),
        ([True, 1], "json"),
        ([{"a": 1}, "x"], "json"),
        ([[1, 2], [3]], "json"),
    ],
)
def test_inferred_types(values: list[Any], kind: str | None) -> None:
    assert infer(values) == kind


def test_objects_become_columns_and_lists_become_child_tables() -> None:
    shaped = shape(
        [
            {
                "id": "B1",
                "fare": {"amount": 5, "tax": {"rate": 0.2}},
                "legs": [{"n": 1, "stops": [{"at": "x"}]}, {"n": 2}],
                "tags": ["a"],
            },
            {"id": "B2", "fare": None, "legs": [], "tags": []},
            {"id": "B3", "legs": None, "note": None},
        ]
    )
    root, legs, stops = shaped.batches
    assert [c.name for c in shaped.structure.columns()] == ["id", "fare_amount", "fare_tax_rate", "tags"]
    assert [t.name for t in shaped.structure.family()] == ["t", "t_legs", "t_legs_stops"]
    assert column(shaped, "fare_amount") == ("int64", [5, None, None])
    assert column(shaped, "tags") == ("json", ['["a"]', "[]", None])
    assert root.references is None
    assert (legs.parents, legs.positions, legs.owners) == (["B1", "B1"], [0, 1], [0, 0])
    assert (stops.parents, stops.positions, stops.columns["at"][1]) == (["B1/0"], [0], ["x"])
    assert shaped.structure.only_null_fields() == ["note"]
    assert root.rows == 3


def test_types_that_drift_across_batches() -> None:
    shaper = Shaper(TableShape("t"), ["id"], "key")
    shape([{"id": 1, "price": 12, "grade": 1, "at": "2026-03-02T06:00:00Z"}], shaper)
    wider = shape([{"id": 2, "price": 12.5, "grade": 2, "at": None}], shaper)
    assert column(wider, "price") == ("double", [12.5])
    assert "column t.price widened from int64 to double" in [c.words for c in wider.changes]
    mixed = shape(
        [
            {"id": 3, "price": 1, "grade": "A", "at": "2026-03-02T08:00:00+02:00"},
            {"id": 4, "price": Decimal("0.1234567890123456789"), "grade": 4, "at": "yesterday"},
            {"id": 5, "price": 2, "grade": 5, "at": {"day": 1}},
        ],
        shaper,
    )
    assert mixed.rejects == []
    assert column(mixed, "grade") == ("text", ["A", "4", "5"])
    assert column(mixed, "at") == ("json", ['"2026-03-02T08:00:00+02:00"', '"yesterday"', '{"day":1}'])
    assert column(mixed, "price") == ("decimal", [1, Decimal("0.1234567890123456789"), 2])
    price = next(c for c in shaper.structure.columns() if c.name == "price")
    assert (price.whole, price.fraction) == (38, 38)  # room for whatever double is held already


def test_drift_is_accepted_left_out_rejected_or_stops() -> None:
    known = shape([{"id": 1, "n": 5, "o": {"p": 1}, "l": [{"q": 1}]}]).structure_data
    odd = [{"id": 2, "n": "many", "o": "none", "l": 7, "fresh": 1, "more": [{"z": 1}]}, {"id": 3, "n": 6}]

    def drifted(**policy: Any) -> Shaper:
        rules = ShapeRules(drift=DriftPolicy(**policy))
        return Shaper(TableShape.from_data(known), ["id"], "key", rules, expected=True)

    accepting = drifted()
    shaped = shape(odd, accepting)
    assert column(shaped, "n") == ("text", ["many", "6"])
    assert (column(shaped, "o_1" if "o_1" in shaped.batches[0].columns else "o"), column(shaped, "l")) == (
        ("text", ["none", None]),
        ("int64", [7, None]),
    )
    assert {c.what for c in shaped.changes} == {"type", "column", "table"}
    assert shape(odd, accepting).changes == []  # told once

    rejecting = shape(odd, drifted(changed_type="reject"))
    assert [(r.record["id"], r.code) for r in rejecting.rejects] == [(2, "value.wrong_type")]
    ignoring = shape(odd, drifted(new_column="ignore", new_table="ignore"))
    assert (ignoring.rejects, column(ignoring, "n")) == ([], ("text", ["many", "6"]))
    assert [t.name for t in ignoring.family.tables] == ["t", "t_l"]
    assert "fresh" not in ignoring.batches[0].columns
    assert {c.field for c in ignoring.changes if c.ignored} >= {"fresh", "more"}
    with pytest.raises(DriftFailed, match=r"on_drift: \{new_column: load\}") as caught:
        shape([*odd[1:], {"id": 2, "fresh": 1}], drifted(new_column="fail"))
    assert [d["column"] for d in caught.value.details] == ["fresh"]
    with pytest.raises(DriftFailed, match="changed_type: widen"):
        shape([{"id": 4, "n": 1.5}], drifted(changed_type="fail"))
    losing = drifted(missing_column="fail")
    shape([{"id": 5, "o": {"p": 1}}], losing)
    with pytest.raises(DriftFailed, match="missing_column: keep"):
        losing.compare_with_expected()


def test_a_column_that_vanishes_is_named_once_and_when_it_returns() -> None:
    known = shape([{"id": 1, "n": 5, "rare": 1}, {"id": 2, "n": 5}]).structure_data
    told = []
    for records in ([{"id": 3}], [{"id": 4}], [{"id": 5, "n": 1}]):
        shaper = Shaper(TableShape.from_data(known), ["id"], "key", expected=True)
        shape(records, shaper)
        told.append([(c.what, c.column) for c in shaper.compare_with_expected()])
        known = shaper.structure.to_data()
    assert told == [[("vanished", "n")], [], [("returned", "n")]]


def test_columns_chosen_left_out_cast_and_kept_as_json() -> None:
    records = [{"id": 1, "a": "12", "o": {"x": 1, "y": 2}, "l": [{"m": 1, "n": 2}], "z": 1}, {"id": 2, "a": "no", "l": []}]
    chosen = shape(records, Shaper(TableShape("t"), ["id"], "key", ShapeRules(only=frozenset({"o_y", "l.m"}))))
    assert [t.names for t in chosen.family.tables] == [["id", "o_y"], ["m"]]
    without = Shaper(
        TableShape("t"), ["id"], "key", ShapeRules(exclude_columns=frozenset({"o", "l.n", "z"}), cast={"a": "int64"})
    )
    shaped = shape(records, without)
    assert [t.names for t in shaped.family.tables] == [["id", "a"], ["m"]]
    assert [(r.code, r.record["id"]) for r in shaped.rejects] == [("value.not_castable", 2)]
    assert without.left_out == {"o", "l.n", "z"}
    flat = shape(records, Shaper(TableShape("t"), ["id"], "key", ShapeRules(objects="json", lists="json")))
    assert column(flat, "o") == ("json", ['{"x":1,"y":2}', None])
    assert column(flat, "l") == ("json", ['[{"m":1,"n":2}]', "[]"])


def test_keys_that_are_missing_are_rejects() -> None:
    shaped = shape([{"id": 1}, {"id": None}, {"n": 3}, {"id": 4}])
    assert [(r.index, r.code) for r in shaped.rejects] == [(1, "key.missing"), (2, "key.missing")]
    assert column(shaped, "id") == ("int64", [1, 4])
    none_at_all = shape([{"n": 1}, {"n": 2}])
    assert (none_at_all.records, len(none_at_all.rejects)) == (0, 2)


def test_half_a_surrogate_pair_costs_one_record() -> None:
    shaper = Shaper(TableShape("t"), ["id"], "key")
    shaped = shaper.shape([{"id": 1, "a": "ok"}, {"id": 2, "a": "\ud800"}, {"id": 3, "a": "ok"}], 0, suspicious=True)
    assert [(r.index, r.code) for r in shaped.rejects] == [(1, "value.not_unicode")]
    assert column(shaped, "a")[1] == ["ok", "ok"]


@pytest.mark.parametrize(
    ("name", "folded"),
    [
        ("userName", "user_name"), ("HTTPStatus", "http_status"), ("Größe (cm)", "grosse_cm"), ("24h", "x24h"), ("", "x"),
        ("_rb_ledger_line", "x_rb_ledger_line"), ("a  b--c", "a_b_c"), ("Čas", "cas"), ("潮位", "潮位"), ("🚢", "x"), ("select", "select"),
    ],
)  # fmt: skip
def test_names_fold(name: str, folded: str) -> None:
    assert fold(name) == folded


@given(st.lists(st.text(min_size=1, max_size=80), unique=True, min_size=1, max_size=12))
def test_names_never_collide_and_are_always_the_same(names: list[str]) -> None:
    def claimed() -> list[str]:
        taken: set[str] = set()
        for name in names:
            taken.add(claim(name, taken, name))
        return sorted(taken)

    first = claimed()
    assert len(first) == len(names)
    assert first == claimed()
    assert all(0 < len(n.encode()) <= LONGEST_NAME_BYTES and not n.startswith("_rb_") for n in first)


def test_fields_that_differ_by_case_stay_two_columns() -> None:
    shaped = shape([{"id": 1, "userName": "a", "user_name": "b", "user": {"name": "c"}}])
    names = [c.name for c in shaped.structure.columns()]
    assert len(set(names)) == 4
    assert names[1] == "user_name"
    again = shape([{"id": 1, "userName": "a", "user_name": "b", "user": {"name": "c"}}])
    assert [c.name for c in again.structure.columns()] == names


scalars = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**70), 2**70), st.floats(allow_nan=False, allow_infinity=False), st.text(max_size=5),
    st.sampled_from(["2026-03-02", "2026-03-02T06:00:00Z", "007"]),
)  # fmt: skip
values = st.recursive(
    scalars,
    lambda inner: st.one_of(
        st.dictionaries(st.sampled_from("abc"), inner, max_size=3),
        st.lists(st.dictionaries(st.sampled_from("xy"), inner, max_size=2), max_size=3),
    ),
    max_leaves=6,
)
records = st.lists(st.dictionaries(st.sampled_from(["p", "q", "r", "s"]), values, max_size=4), min_size=1, max_size=8)


@pytest.mark.slow
@given(st.lists(records, min_size=1, max_size=3))
def test_every_record_is_shaped_or_rejected_and_every_value_kept(batches: list[list[dict[str, Any]]]) -> None:
    shaper = Shaper(TableShape("t"), ["id"], "key")
    number = 0
    for batch in batches:
        rows = [{"id": number + i, **r} for i, r in enumerate(batch)]
        number += len(rows)
        shaped = shaper.shape(rows, 0)
        assert shaped.records + len(shaped.rejects) == len(rows)
        kept = column(shaped, "id")[1] if shaped.records else []
        rejected = {r.record["id"] for r in shaped.rejects}
        assert set(kept) | rejected == {r["id"] for r in rows}
        assert set(kept).isdisjoint(rejected)
        by_id = {r["id"]: r for r in rows}
        for field, node in shaper.structure.root.fields.items():
            if field == "id" or type(node).__name__ != "ColumnShape" or not shaped.records:
                continue
            kind, data = column(shaped, node.name)  # type: ignore[union-attr]
            for key, value in zip(kept, data):
                original = by_id[key].get(field)
                if original is None:
                    assert value is None
                elif kind == "json":
                    assert value == dump(original, sort_keys=True)
                elif kind == "text":
                    assert value == (original if isinstance(original, str) else _as_text(original))
                elif kind in ("int64", "double", "decimal") and isinstance(original, int | float):
                    assert Decimal(str(value)) == Decimal(str(original))
                elif kind == "bool":
                    assert value is original


def _as_text(value: Any) -> str:
    return repr(value) if isinstance(value, float) else str(value)


def test_the_structure_comes_back_from_what_is_kept() -> None:
    shaped = shape([{"id": "a", "f": {"x": 1, "gone": None}, "l": [{"y": 2.5, "m": [{"z": True}]}]}])
    data = shaped.structure.to_data()
    assert TableShape.from_data(data).to_data() == data
