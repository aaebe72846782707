"""Cutting rows of a prepared statement into columns, one column at a time over all rows of a batch.

Source: MariaDB's documentation, "Result Set Packets", binary rows: a zero, a bit for each column that is null, beginning with the third,
then the values of all others. Numbers take as many bytes as their type has, the lowest first; times come after their length, as numbers of
their parts; everything else is text after its length.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from pymysql.constants import FIELD_TYPE, FLAG

from ..sql.slices import Bytes, Flags, Numbers, arrow_of, cut, little_endian, numbers_at

# Beyond the years 1 to 9999, so that the row is a reject: the month or day 0, or the 31st of February.
NO_DAY = -(2**31)
NO_TIME = -(2**63)
_WIDTHS = {
    FIELD_TYPE.TINY: 1, FIELD_TYPE.SHORT: 2, FIELD_TYPE.YEAR: 2, FIELD_TYPE.INT24: 4, FIELD_TYPE.LONG: 4, FIELD_TYPE.LONGLONG: 8,
    FIELD_TYPE.FLOAT: 4, FIELD_TYPE.DOUBLE: 8,
}  # fmt: skip
_DAYS = (FIELD_TYPE.DATE, FIELD_TYPE.NEWDATE)
_TIMES = (FIELD_TYPE.DATETIME, FIELD_TYPE.TIMESTAMP)
# By how many bytes of a moment are sent: those of its first eight bytes that are its own.
_PARTS_SENT = np.zeros(16, np.int64)
_PARTS_SENT[4:7], _PARTS_SENT[7:] = 0xFFFFFFFFFF, -1


def cut_columns(data: bytearray, rows: Numbers, fields: Sequence[Any]) -> list[pa.Array]:
    """The columns: int64, uint64 or float64 for numbers, date32, timestamp[us] without a zone, bytes for everything else. A day that no
    calendar has is NO_DAY or NO_TIME; 0000-00-00 is null.

    Args:
        rows: where each begins.
    """
    buffer: Bytes = np.frombuffer(data, np.uint8)
    at = rows + 1 + (len(fields) + 9) // 8
    columns = []
    for place, field in enumerate(fields):
        byte, bit = divmod(place + 2, 8)
        null = (buffer[rows + 1 + byte] >> bit & 1).astype(np.bool_)
        valid = ~null if null.any() else None
        code, width = field.type_code, _WIDTHS.get(field.type_code)
        if width is not None:
            columns.append(_numbers(buffer, at, width, code, bool(field.flags & FLAG.UNSIGNED), valid))
            at = at + (width if valid is None else np.where(valid, width, 0))
            continue
        # What is null has no bytes, and may stand at the very end.
        first = numbers_at(buffer, at, "u1")
        lengths = first.astype(np.int64)
        if code in _DAYS or code in _TIMES:
            if valid is not None:
                lengths[null] = 0
            columns.append(_moments(buffer, at, lengths, valid, whole=code in _DAYS))
            at = at + lengths + (1 if valid is None else valid)
            continue
        begins = at + 1
        if valid is not None:
            lengths[null] = 0
            begins -= null
        if first.max() > 250:  # a length of several bytes
            for mark, size in ((252, 2), (253, 3), (254, 8)):
                long = (first == mark) & ~null
                if long.any():
                    lengths[long] = little_endian(buffer, at[long] + 1, min(size, 7))
                    begins[long] += size
        columns.append(cut(buffer, begins, lengths, valid))
        at = begins + lengths
    return columns


def _numbers(buffer: Bytes, starts: Numbers, width: int, code: int, unsigned: bool, valid: Flags | None) -> pa.Array:
    letter = "f" if code in (FIELD_TYPE.FLOAT, FIELD_TYPE.DOUBLE) else "u" if unsigned or code == FIELD_TYPE.YEAR else "i"
    found = numbers_at(buffer, starts, f"<{letter}{width}")
    if letter == "f":
        return arrow_of(pa.float64(), found.astype(np.float64), valid)
    if letter == "u" and width == 8:
        return arrow_of(pa.uint64(), found, valid)
    return arrow_of(pa.int64(), found.astype(np.int64), valid)


def _moments(buffer: Bytes, starts: Numbers, lengths: Numbers, valid: Flags | None, *, whole: bool) -> pa.Array:
    """Dates or times. Length, year, month, day; hour, minute, second; microseconds: only as many of these are sent as are needed.

    Args:
        whole: dates, not times.
    """
    parts = numbers_at(buffer, starts, "<i8") & _PARTS_SENT[lengths]
    years, months, days = parts >> 8 & 0xFFFF, parts >> 24 & 0xFF, parts >> 32 & 0xFF
    of_months = (years - 1970) * 12 + months - 1
    epoch: Numbers = of_months.astype("M8[M]").astype("M8[D]").astype(np.int64) + days - 1
    # A day that its month does not have lies in another.
    known = (epoch.astype("M8[D]").astype("M8[M]").astype(np.int64) == of_months) & (months - 1 < 12) & (months > 0)
    empty = parts & 0xFFFFFFFF00 == 0
    if empty.any():
        valid = ~empty if valid is None else valid & ~empty
    if whole:
        return arrow_of(pa.date32(), np.where(known, epoch, NO_DAY).astype(np.int32), valid)
    seconds = epoch * 86_400 + (parts >> 40 & 0xFF) * 3_600 + (parts >> 48 & 0xFF) * 60 + (parts >> 56 & 0xFF)
    micros = seconds * 1_000_000
    if lengths.max() > 7:
        micros += np.where(lengths > 7, numbers_at(buffer, starts + 8, "<u4"), 0)
    return arrow_of(pa.timestamp("us"), micros if known.all() else np.where(known, micros, NO_TIME), valid)
