"""Dates and times as text, a column at a time.

The days in a column are close together, and a day has 86,400 seconds: each is formatted once and looked up, which takes half the time of
formatting every value.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_Array = np.ndarray[Any, Any]

_MICROS, _SECONDS_OF_DAY = 1_000_000, 86_400
# All times are of one length, so a column of them is a table of letters.
_PARTS = np.dtype([(name, f"S{size}") for name, size in
                   (("day", 10), ("gap", 1), ("clock", 8), ("point", 1), ("millis", 3), ("micros", 3), ("zone", 1))])  # fmt: skip
_CLOCK = np.dtype([(name, f"S{size}") for name, size in
                   (("hours", 2), ("first", 1), ("minutes", 2), ("second", 1), ("seconds", 2))])  # fmt: skip


def date_texts(dates: pa.Array) -> list[Any]:
    """Dates like '2026-03-02'; None for null.

    Args:
        dates: date32, of the years 1 to 9999.
    """
    numbers = dates.view(pa.int32())
    found = pc.min_max(numbers).as_py()
    first, last = found["min"], found["max"]
    if first is None or last - first > len(dates):
        listed: list[Any] = dates.cast(pa.string()).to_pylist()
        return listed
    texts = np.array([*_written(np.arange(first, last + 1)).to_pylist(), None], object)
    made: list[Any] = texts[pc.fill_null(numbers, last + 1).to_numpy() - first].tolist()
    return made


def time_texts(times: pa.Array) -> list[Any]:
    """Times like '2026-03-02 06:00:00.000000Z'; None for null.

    Args:
        times: in microseconds, in UTC, of the years 1 to 9999.
    """
    micros: _Array = (times.drop_null() if times.null_count else times).view(pa.int64()).to_numpy()
    seconds = micros // _MICROS
    days = seconds // _SECONDS_OF_DAY
    made = np.empty(len(micros), _PARTS)
    made["day"], made["gap"] = _days(days), b" "
    made["clock"], made["point"] = _clock()[seconds - days * _SECONDS_OF_DAY], b"."
    micros = micros - seconds * _MICROS
    millis = micros // 1_000
    made["millis"], made["micros"] = _thousand()[millis], _thousand()[micros - millis * 1_000]
    made["zone"] = b"Z"
    return _listed(times, made)


def _listed(values: pa.Array, known: _Array) -> list[Any]:
    """known: what stands where `values` are not null, all of one length."""
    places, validity = np.arange(len(values) + 1, dtype=np.int32), None
    if values.null_count:
        valid = values.is_valid()
        validity = valid.buffers()[1]
        places[1:] = np.cumsum(valid.to_numpy(zero_copy_only=False))
    buffers = [validity, pa.py_buffer(places * known.dtype.itemsize), pa.py_buffer(known.view(np.uint8))]
    listed: list[Any] = pa.Array.from_buffers(pa.string(), len(values), buffers).to_pylist()
    return listed


def _days(days: _Array) -> _Array:
    first, last = (int(days.min()), int(days.max())) if len(days) else (0, 0)
    near = last - first <= len(days)
    text = _written(np.arange(first, last + 1) if near else days)
    letters = np.frombuffer(text.buffers()[2], "S10", len(text)) if len(text) else np.empty(0, "S10")
    return letters[days - first] if near else letters


def _written(days: _Array) -> pa.Array:
    return pa.array(days.astype(np.int32)).view(pa.date32()).cast(pa.string())


@cache
def _clock() -> _Array:
    made, seconds = np.empty(_SECONDS_OF_DAY, _CLOCK), np.arange(_SECONDS_OF_DAY)
    two = np.array([f"{number:02}" for number in range(60)], "S2")
    made["hours"], made["minutes"], made["seconds"] = two[seconds // 3600], two[seconds // 60 % 60], two[seconds % 60]
    made["first"] = made["second"] = b":"
    return made.view("S8")


@cache
def _thousand() -> _Array:
    return np.array([f"{number:03}" for number in range(1_000)], "S3")
