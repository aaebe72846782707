"""Rows of the binary log, each value as the bytes in which the server would have sent it.

Source: MariaDB's documentation, "Rows Event Version 1"; the types' own formats from MySQL's internals manual, "Date and Time Data Type
Representation" and "Fixed-Point".
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any

from .binlog import BLOB, DELETE_ROWS, ENUM, HEADER, SET, STRING, UPDATE_ROWS, VARCHAR, BinlogColumn, MappedTable, number_at

Value = bytes | None
# (data, where it begins) -> (the value, where it ends)
Reader = Callable[[bytes, int], tuple[Value, int]]
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_DIGIT_BYTES = (0, 1, 1, 2, 2, 3, 3, 4, 4, 4)


class Unreadable(Exception):
    """A column's type that cannot be read, in words."""


def rows_of(event: bytes, table: MappedTable, readers: list[Reader]) -> Iterator[tuple[list[Value] | None, list[Value] | None]]:
    """(the row before, the row after) of each change; None if there is none."""
    kind = event[4]
    at = HEADER + 8
    if kind >= 30:  # version 2 has further data, of which its length tells
        at += struct.unpack_from("<H", event, at)[0]
    many, at = number_at(event, at)
    bitmap = (many + 7) // 8
    at += bitmap * (2 if kind in UPDATE_ROWS else 1)
    while at < len(event):
        row, at = _row(event, at, bitmap, readers)
        if kind in UPDATE_ROWS:
            after, at = _row(event, at, bitmap, readers)
            yield row, after
        elif kind in DELETE_ROWS:
            yield row, None
        else:
            yield None, row


def _row(event: bytes, at: int, bitmap: int, readers: list[Reader]) -> tuple[list[Value], int]:
    nulls = int.from_bytes(event[at : at + bitmap], "little")
    at += bitmap
    row: list[Value] = []
    for reader in readers:
        if nulls & 1:
            row.append(None)
        else:
            value, at = reader(event, at)
            row.append(value)
        nulls >>= 1
    return row, at


def reader_of(column: BinlogColumn) -> Reader:
    """The reader of a column's values.

    Raises:
        Unreadable: only the server itself understands the type.
    """
    make = _READERS.get(column.code)
    if make is None:
        raise Unreadable(f"type {column.code} of the log")
    return make(column)


def _bits_of(column: BinlogColumn) -> Reader:
    bits = column.meta[0] + column.meta[1] * 8
    return partial(_bits, (bits + 7) // 8)


def _varchar_of(column: BinlogColumn) -> Reader:
    return partial(_text, 2 if int.from_bytes(column.meta, "little") > 255 else 1, column.encoding)


def _string_of(column: BinlogColumn) -> Reader:
    longest = column.meta[1] | ((column.meta[0] & 0x30) ^ 0x30) << 4
    return partial(_text, 2 if longest > 255 else 1, column.encoding)


_WHOLE = {1: 1, 2: 2, 3: 4, 8: 8, 9: 3}


def _whole(size: int, signed: bool, data: bytes, at: int) -> tuple[Value, int]:
    return b"%d" % int.from_bytes(data[at : at + size], "little", signed=signed), at + size


def _floating(form: str, size: int, data: bytes, at: int) -> tuple[Value, int]:
    return repr(struct.unpack_from(form, data, at)[0]).encode(), at + size


def _bits(size: int, data: bytes, at: int) -> tuple[Value, int]:
    return b"%d" % int.from_bytes(data[at : at + size], "big"), at + size


def _text(size: int, encoding: str | None, data: bytes, at: int) -> tuple[Value, int]:
    length = int.from_bytes(data[at : at + size], "little")
    at += size
    value = data[at : at + length]
    if encoding is not None and encoding not in ("utf8", "utf-8", "ascii"):
        value = value.decode(encoding).encode()
    return value, at + length


def _enum(size: int, members: tuple[bytes, ...], data: bytes, at: int) -> tuple[Value, int]:
    number = int.from_bytes(data[at : at + size], "little")
    return (members[number - 1] if number else b""), at + size


def _set(size: int, members: tuple[bytes, ...], data: bytes, at: int) -> tuple[Value, int]:
    flags = int.from_bytes(data[at : at + size], "little")
    return b",".join(member for place, member in enumerate(members) if flags >> place & 1), at + size


def _decimal(precision: int, scale: int, data: bytes, at: int) -> tuple[Value, int]:
    """Nine digits in four bytes, the rest before and after in fewer; the first bit is the sign, and negative values are inverted."""
    whole, left = divmod(precision - scale, 9)
    fraction, right = divmod(scale, 9)
    sizes = [_DIGIT_BYTES[left]] * (left > 0) + [4] * (whole + fraction) + [_DIGIT_BYTES[right]] * (right > 0)
    digits = [left] * (left > 0) + [9] * (whole + fraction) + [right] * (right > 0)
    raw = bytearray(data[at : at + sum(sizes)])
    negative = not raw[0] & 0x80
    raw[0] ^= 0x80
    if negative:
        raw = bytearray(byte ^ 0xFF for byte in raw)
    text, place = "", 0
    for size, many in zip(sizes, digits):
        text += str(int.from_bytes(raw[place : place + size], "big")).zfill(many)
        place += size
    cut = len(text) - scale
    number = ("-" if negative else "") + (text[:cut].lstrip("0") or "0") + ("." + text[cut:] if scale else "")
    return number.encode(), at + place


def _date(data: bytes, at: int) -> tuple[Value, int]:
    value = int.from_bytes(data[at : at + 3], "little")
    return b"%04d-%02d-%02d" % (value >> 9, value >> 5 & 15, value & 31), at + 3


def _fraction(digits: int, data: bytes, at: int) -> tuple[int, int]:
    """(microseconds, where they end)."""
    size = (digits + 1) // 2
    return int.from_bytes(data[at : at + size], "big") * 10 ** (6 - 2 * size), at + size


def _timestamp(digits: int, data: bytes, at: int) -> tuple[Value, int]:
    seconds = int.from_bytes(data[at : at + 4], "big")
    micros, end = _fraction(digits, data, at + 4)
    if not seconds and not micros:
        return b"0000-00-00 00:00:00", end
    moment = _EPOCH + timedelta(seconds=seconds, microseconds=micros)
    return moment.strftime("%Y-%m-%d %H:%M:%S.%f").encode(), end


def _datetime(digits: int, data: bytes, at: int) -> tuple[Value, int]:
    value = int.from_bytes(data[at : at + 5], "big") - 0x8000000000
    micros, end = _fraction(digits, data, at + 5)
    months, days = value >> 22, value >> 17 & 31
    year, month = divmod(months, 13)
    clock = (value >> 12 & 31, value >> 6 & 63, value & 63)
    return b"%04d-%02d-%02d %02d:%02d:%02d.%06d" % (year, month, days, *clock, micros), end


def _time(digits: int, data: bytes, at: int) -> tuple[Value, int]:
    """Three bytes and the fraction's make one number, around the middle of its range."""
    size = 3 + (digits + 1) // 2
    whole = int.from_bytes(data[at : at + size], "big") - (0x800000 << 8 * (size - 3))
    sign, whole = ("-", -whole) if whole < 0 else ("", whole)
    clock, rest = whole >> 8 * (size - 3), whole & ((1 << 8 * (size - 3)) - 1)
    text = f"{sign}{clock >> 12 & 0x3FF:02d}:{clock >> 6 & 63:02d}:{clock & 63:02d}"
    if digits:
        text += f".{rest * 10 ** (6 - 2 * (size - 3)):06d}"[: digits + 1]
    return text.encode(), at + size


_TIMES: dict[int, Any] = {17: _timestamp, 18: _datetime, 19: _time}
_READERS: dict[int, Callable[[BinlogColumn], Reader]] = {
    **{code: lambda column: partial(_whole, _WHOLE[column.code], not column.unsigned) for code in _WHOLE},
    **{code: lambda column: partial(_TIMES[column.code], column.meta[0]) for code in _TIMES},
    4: lambda _: partial(_floating, "<f", 4),
    5: lambda _: partial(_floating, "<d", 8),
    10: lambda _: _date,
    13: lambda _: lambda data, at: (b"%d" % (data[at] + 1900 if data[at] else 0), at + 1),
    14: lambda _: _date,
    16: _bits_of,
    246: lambda column: partial(_decimal, column.meta[0], column.meta[1]),
    253: _varchar_of,
    ENUM: lambda column: partial(_enum, column.meta[1], column.members),
    SET: lambda column: partial(_set, column.meta[1], column.members),
    VARCHAR: _varchar_of,
    BLOB: lambda column: partial(_text, column.meta[0], column.encoding),
    STRING: _string_of,
}
