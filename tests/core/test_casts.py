"""Casts make a value what the feed asks for, or say that it cannot be; they never guess."""

from __future__ import annotations

from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

from reedbasket.core.records.column_types import WIDER, Kind, widen
from reedbasket.core.shaping.casts import cast_values


@pytest.mark.parametrize(
    ("kind", "value", "made"),
    [
        ("int64", " 12 ", 12), ("int64", 3.0, 3), ("int64", 2.5, None), ("int64", "1e3", None), ("int64", 2**63, None),
        ("decimal", "0.10", Decimal("0.1")), ("decimal", True, None), ("decimal", "NaN", None), ("decimal", 1e21, Decimal(10**21)),
        ("double", "0.5", 0.5), ("double", False, None), ("bool", "Yes", True), ("bool", 0, False), ("bool", "maybe", None),
        ("text", 7, "7"), ("text", True, "true"), ("text", {"b": 1}, '{"b":1}'), ("date", "2026-03-02", date(2026, 3, 2)),
        ("date", "2026-03-02T23:30:00-02:00", date(2026, 3, 3)), ("date", "2026-02-30", None), ("date", 20260302, None),
        ("timestamp", "2026-03-02T08:00:00+02:00", datetime(2026, 3, 2, 6, tzinfo=UTC)),
        ("timestamp", "2026-03-02T08:00:00", datetime(2026, 3, 2, 8, tzinfo=UTC)), ("timestamp", "soon", None),
        ("json", {"b": 1, "a": None}, '{"a":null,"b":1}'), ("binary", "00ff", b"\x00\xff"), ("binary", "xyz", None),
        ("uuid", "00000000-0000-4000-8000-00000000000A", "00000000-0000-4000-8000-00000000000a"), ("uuid", "7", None),
    ],
)  # fmt: skip
def test_a_value_is_made_what_is_asked_or_is_a_misfit(kind: Kind, value: Any, made: Any) -> None:
    data, misfits = cast_values([None, value], kind)
    found = data.to_pylist() if isinstance(data, pa.Array) else data
    assert found == [None, made]
    assert [(m.index, m.code) for m in misfits] == ([(1, "value.not_castable")] if made is None else [])


@pytest.mark.parametrize("now", sorted(WIDER))
def test_widening_is_the_same_from_either_side_and_ends(now: Kind) -> None:
    for met in WIDER:
        joined = widen(now, met)
        assert joined == widen(met, now)
        if joined is not None:
            assert widen(joined, now) == widen(joined, met) == joined
