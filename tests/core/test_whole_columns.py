"""Whole columns at a time: keys told apart, times written, lines kept whole, by what the plain way would make of the same."""

from __future__ import annotations

import random
from typing import Any

import pyarrow as pa
import pytest

from reedbasket.core.sources.files.formats import blocks
from reedbasket.core.warehouses.loader import distinct_keys as keys_apart
from reedbasket.core.warehouses.sqlite.values import bindable

MICROS = (-62_135_596_800_000_000, 253_402_300_799_999_999)  # of the years 1 to 9999


@pytest.mark.slow
def test_keys_are_apart_only_where_none_comes_twice(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keys_apart, "_BLOCK", 16)
    dice, told = random.Random(7), 0
    for _ in range(3000):
        made, listed, kind = keys_apart.KeyUniqueness(), [], dice.choice([pa.int64(), pa.string(), pa.float64()])
        for _ in range(dice.randint(1, 4)):
            some = dice.sample(range(-60, 60), dice.randint(0, 6)) if dice.random() < 0.8 else [3, 3]
            some = sorted(some) if dice.random() < 0.6 else some
            keys = pa.chunked_array([pa.array(some, pa.int64()).cast(kind)])
            made.add(keys)
            listed += keys.to_pylist()
        once = len(set(listed)) == len(listed)
        assert once or not made.all_distinct
        if kind == pa.int64() and listed and max(listed) - min(listed) < 7 * 16:
            assert made.all_distinct == once
        told += made.all_distinct
    assert told > 500
    for odd in ([float("nan")], [None]):
        made = keys_apart.KeyUniqueness()
        made.add(pa.chunked_array([pa.array(odd, pa.float64())]))
        made.add(pa.chunked_array([pa.array(odd, pa.float64())]))
        assert not made.all_distinct


@pytest.mark.slow
def test_dates_and_times_are_written_as_one_by_one() -> None:
    dice = random.Random(3)
    for _ in range(1500):
        low = dice.choice([MICROS[0], 0, 1_700_000_000_000_000])
        high = dice.choice([MICROS[1], low + 10**12])
        values = [dice.choice([None, dice.randint(low, high)]) for _ in range(dice.randint(0, 9))]
        values = [v and v // 10**6 * 10**6 if dice.random() < 0.3 else v for v in values]
        times = pa.array(values, pa.timestamp("us", "UTC"))
        dates = pa.array([None if v is None else v // 86_400_000_000 for v in values], pa.int32()).view(pa.date32())
        first = dice.randint(0, len(values))
        times, dates = times.slice(first), dates.slice(first)
        plain: list[Any] = times.view(pa.timestamp("us")).cast(pa.string()).to_pylist()
        assert bindable("timestamp", times) == [None if text is None else text + "Z" for text in plain]
        assert bindable("date", dates) == dates.cast(pa.string()).to_pylist()


@pytest.mark.parametrize("quote", ['"', None])
def test_blocks_hold_whole_records_and_lose_no_byte(monkeypatch: pytest.MonkeyPatch, quote: str | None) -> None:
    monkeypatch.setattr(blocks, "BLOCK", 40)
    dice = random.Random(5)
    for _ in range(600):
        field = ["7", "word", "", "longer words here"] + (['"a\nb"', '"say ""no""\n"'] if quote else [])
        data = "".join(",".join(dice.choices(field, k=3)) + "\n" for _ in range(dice.randint(1, 30))).encode()
        data = data if dice.random() < 0.8 else data[:-1]
        size = dice.choice([5, 40, 64, 200])
        parts = [data[at : at + size] for at in range(0, len(data), size)]
        found = list(blocks.whole_lines(iter(parts), quote, ",", "a.csv"))
        assert b"".join(found) == data and all(block.endswith(b"\n") for block in found[:-1])
        assert not quote or all(block.count(b'"') % 2 == 0 for block in found)
        assert sum(map(blocks.lines_in, found)) == data.count(b"\n")
