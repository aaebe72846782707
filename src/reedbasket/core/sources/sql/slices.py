"""Many pieces cut from one buffer at once, as a column of text; a loop over rows would spend most of its time on this."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

Numbers = np.ndarray[Any, np.dtype[np.int64]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]
Flags = np.ndarray[Any, np.dtype[np.bool_]]


def cut(buffer: Bytes, starts: Numbers, lengths: Numbers, valid: Flags | None) -> pa.Array:
    """The pieces `buffer[start : start + length]` as a binary array.

    Args:
        lengths: 0 where not valid.
        valid: False for null; None if all are valid.
    """
    many = len(starts)
    # The buffer as what it is cut into, a piece, what lies before the next, and so on: arrow then takes every second of them.
    offsets = np.zeros(2 * many + 1, np.int64)
    offsets[1::2], offsets[2::2] = starts, starts + lengths
    if many and offsets[-1] > len(buffer):  # what has no length may be said to begin anywhere
        np.minimum(offsets, len(buffer), out=offsets)
    if len(buffer) > _MOST_OFFSET or (offsets[1:] < offsets[:-1]).any():
        return _gathered(buffer, starts, lengths, valid)
    whole = pa.Array.from_buffers(
        pa.binary(), 2 * many, [None, pa.py_buffer(offsets.astype(np.int32)), pa.py_buffer(buffer)], 0
    )
    places = np.arange(1, 2 * many, 2, dtype=np.int32)
    return whole.take(pa.array(places, mask=None if valid is None or valid.all() else ~valid))


_MOST_OFFSET = np.iinfo(np.int32).max


def _gathered(buffer: Bytes, starts: Numbers, lengths: Numbers, valid: Flags | None) -> pa.Array:
    """Pieces in any order, out of a buffer of any size: byte by byte."""
    offsets = np.zeros(len(starts) + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    data = buffer[np.repeat(starts - offsets[:-1], lengths) + np.arange(int(offsets[-1]))]
    nulls = None if valid is None or valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    buffers = [nulls, pa.py_buffer(offsets.astype(np.int32)), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.binary(), len(starts), buffers, -1 if nulls else 0)


def arrow_of(kind: pa.DataType, values: Any, valid: Flags | None) -> pa.Array:
    """Numbers of the type's width as an array of that type.

    Args:
        valid: False for null; None if all are valid.
    """
    rows = len(values) * values.itemsize * 8 // kind.bit_width
    nulls = None if valid is None else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(kind, rows, [nulls, pa.py_buffer(np.ascontiguousarray(values))], 0 if nulls is None else -1)


def numbers_at(buffer: Bytes, starts: Numbers, kind: str) -> Any:
    """Numbers of a numpy type at any positions, in one step instead of one for each byte.

    Args:
        starts: ascending; what reaches beyond the end is filled with zeros.
    """
    width = np.dtype(kind).itemsize
    if len(starts) and int(starts[-1]) + width > len(buffer):
        starts = np.minimum(starts, len(buffer))
        buffer = np.concatenate([buffer, np.zeros(width, np.uint8)])
    return np.ndarray((max(len(buffer) - width + 1, 0),), kind, buffer, strides=(1,))[starts]


def as_text(values: pa.Array) -> pa.Array:
    """Bytes that are known to be UTF-8, as text.

    Raises:
        pyarrow.ArrowInvalid: they are not.
    """
    return values.cast(pa.string())


def big_endian(buffer: Bytes, starts: Numbers, size: int) -> Numbers:
    """Unsigned integers of `size` bytes, at most 7."""
    value = buffer[starts].astype(np.int64)
    for step in range(1, size):
        value = (value << 8) | buffer[starts + step]
    return value


def little_endian(buffer: Bytes, starts: Numbers, size: int) -> Numbers:
    """Unsigned integers of `size` bytes, at most 7."""
    value = np.zeros(len(starts), np.int64)
    for step in reversed(range(size)):
        value = (value << 8) | buffer[starts + step]
    return value


def bytes_of(values: pa.Array) -> tuple[Bytes, Numbers]:
    """(the bytes of a binary array without nulls, where each value begins and, at the end, where the last one ends)."""
    _, offsets, data = values.buffers()
    begin = np.frombuffer(offsets, np.int32)[values.offset : values.offset + len(values) + 1].astype(np.int64)
    return (np.frombuffer(data, np.uint8) if data else np.zeros(0, np.uint8)), begin
