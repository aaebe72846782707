"""Pieces and numbers taken out of one buffer at once are what a loop over rows would take."""

from __future__ import annotations

import struct
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as some

from reedbasket.core.records.exact_json import _slow, dump
from reedbasket.core.shaping.columns import _stands_in
from reedbasket.core.sources.sql.slices import cut, numbers_at


@given(some.binary(max_size=200), some.lists(some.tuples(some.integers(0, 220), some.integers(0, 40), some.booleans())))
def test_pieces_in_any_order_null_or_beyond_the_end(data: bytes, wanted: list[tuple[int, int, bool]]) -> None:
    """Only what is empty may be said to begin beyond the end."""
    pieces = [(start, size if valid and start + size <= len(data) else 0, valid) for start, size, valid in wanted]
    buffer = np.frombuffer(data, np.uint8)
    for taken in (pieces, sorted(pieces)):
        starts, lengths = (np.array([piece[n] for piece in taken], np.int64) for n in (0, 1))
        valid = np.array([piece[2] for piece in taken], np.bool_)
        expected = [data[start : start + size] if ok else None for start, size, ok in taken]
        made = cut(buffer, starts, lengths, valid)
        made.validate(full=True)
        assert made.to_pylist() == expected
        if all(ok for *_, ok in taken):
            assert cut(buffer, starts, lengths, None).to_pylist() == expected


@given(some.binary(min_size=1, max_size=60), some.lists(some.integers(0, 60), min_size=1))
def test_numbers_wherever_they_stand(data: bytes, places: list[int]) -> None:
    starts = np.array(sorted(place for place in places), np.int64)
    for kind, form in ((">i2", ">h"), (">i4", ">i"), ("<i8", "<q"), ("<u4", "<I"), ("u1", "B")):
        width = struct.calcsize(form)
        found = numbers_at(np.frombuffer(data, np.uint8), starts, kind).tolist()
        padded = data + bytes(width)
        assert found == [struct.unpack_from(form, padded, min(start, len(data)))[0] for start in starts.tolist()]


@given(some.lists(some.text(alphabet="a\x00ø", max_size=4)), some.integers(0, 5))
def test_a_character_is_found_in_just_the_rows_looked_at(texts: list[str], first: int) -> None:
    column = pa.array(texts, pa.string()).slice(min(first, len(texts)))
    assert _stands_in(b"\0", column) == any("\0" in text for text in texts[first:])
    assert _stands_in(b"\\u0000", pa.chunked_array([column, pa.array(["a\\u0000"])]))


VALUES = some.recursive(
    some.none()
    | some.booleans()
    | some.integers(-(2**63), 2**64 - 1)
    | some.text()
    | some.decimals(allow_nan=False, allow_infinity=False),
    lambda inner: some.lists(inner, max_size=3) | some.dictionaries(some.text(max_size=3), inner, max_size=3),
    max_leaves=8,
)


@given(VALUES)
def test_numbers_stay_exact_in_json_whoever_writes_it(value: Any) -> None:
    assert dump(value, sort_keys=True) == _slow(value, True)
    assert dump({"n": Decimal("1.50"), "large": 2**70}) == '{"n":1.50,"large":1180591620717411303424}'
