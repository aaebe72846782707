"""Many pieces cut out of one buffer at once, as a column of text: what a loop over rows would spend most of its time on."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

Numbers = np.ndarray[Any, np.dtype[np.int64]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]
Flags = np.ndarray[Any, np.dtype[np.bool_]]


def cut(buffer: Bytes, starts: Numbers, lengths: Numbers, valid: Flags) -> pa.Array:
    """The pieces `buffer[start : start + length]` as a binary array; null where not valid, whose length is to be 0."""
    offsets = np.zeros(len(starts) + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    total = int(offsets[-1])
    if total:
        places = np.repeat(starts - offsets[:-1], lengths)
        places += _counting(total)
        data = buffer[places]
    else:
        data = np.zeros(0, np.uint8)
    nulls = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(
        pa.binary(), len(starts), [nulls, pa.py_buffer(offsets.astype(np.int32)), pa.py_buffer(data)], -1 if nulls else 0
    )


_numbers: list[Numbers] = [np.arange(1024 * 1024)]


def _counting(many: int) -> Numbers:
    """0, 1, 2, …: the same numbers again and again, so they are kept."""
    numbers = _numbers[0]
    return numbers[:many] if many <= len(numbers) else np.arange(many)


def as_text(values: pa.Array) -> pa.Array:
    """Bytes known to be UTF-8. Raises pyarrow.ArrowInvalid where they are not."""
    return values.cast(pa.string())


def big_endian(buffer: Bytes, starts: Numbers, size: int) -> Numbers:
    """Unsigned whole numbers of `size` bytes, up to 7."""
    value = buffer[starts].astype(np.int64)
    for step in range(1, size):
        value = (value << 8) | buffer[starts + step]
    return value


def little_endian(buffer: Bytes, starts: Numbers, size: int) -> Numbers:
    """Unsigned whole numbers of `size` bytes, up to 7."""
    value = np.zeros(len(starts), np.int64)
    for step in reversed(range(size)):
        value = (value << 8) | buffer[starts + step]
    return value


def bytes_of(values: pa.Array) -> tuple[Bytes, Numbers]:
    """(the bytes of a binary array without nulls, where each value begins; one more at the end)."""
    _, offsets, data = values.buffers()
    begin = np.frombuffer(offsets, np.int32)[values.offset : values.offset + len(values) + 1].astype(np.int64)
    return (np.frombuffer(data, np.uint8) if data else np.zeros(0, np.uint8)), begin
