"""Whole columns at a time: times written, lines kept whole, by what the plain way would make of the same."""

from __future__ import annotations

import random
from typing import Any

import pyarrow as pa
import pytest

from reedbasket.core.sources.files.formats import blocks
from reedbasket.core.warehouses.sqlite.values import bindable

MICROS = (-62_135_596_800_000_000, 253_402_300_799_999_999)  # of the years 1 to 9999


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
