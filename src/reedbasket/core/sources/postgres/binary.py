"""Fields of binary COPY, made columns of our kinds: a column at a time, over all rows of a batch.

Source: PostgreSQL's sources, the `…send` functions of each type (src/backend/utils/adt); all numbers are big endian, times are
microseconds and dates days from the first of January 2000 on.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from ..sql.database import field_of, typed
from ..sql.decimals import decimals
from ..sql.slices import Bytes, Flags, Numbers, arrow_of, as_text, cut, numbers_at
from ..sql.tables import Column

_DAYS_TO_2000 = 10_957
_MICROS_TO_2000 = 946_684_800_000_000
_DAYS = np.iinfo(np.int32)
_MICROS = np.iinfo(np.int64)
# As many digits as 64 bits hold.
MOST_DIGITS = 18
_POWERS = 10 ** np.arange(MOST_DIGITS + 1, dtype=np.int64)
# A numeric: its size, and how many digits, weight, sign and scale in one; then digits, of which most have no more than these.
_NEAR_DIGITS = 2
_NUMERIC = np.dtype([("size", ">i4"), ("front", ">i8"), ("digits", ">i2", (_NEAR_DIGITS,))])
_NEGATIVE, _ODD = 0x4000, 0xC000


def in_columns(columns: Sequence[Column], buffer: Bytes, rows: Numbers) -> pa.Table:
    """rows: where the first field of each begins. Raises pyarrow.ArrowInvalid for text that is no UTF-8."""
    made: list[tuple[pa.Field, pa.Array]] = []
    # What the field at `at` says of its size, where that is known by now.
    at: Numbers = rows
    sizes: Numbers | None = None
    while len(made) < len(columns):
        left = columns[len(made) :]
        alike = _widths(left, buffer, int(at[0]))
        group = _fixed(left, alike, buffer, at) if alike else None
        if group is not None:
            fields, at, sizes = group
            made += fields
            continue
        # Where they differ after all, each by itself.
        for column in left[: max(len(alike), 1)]:
            if column.kind == "decimal" and column.select == "{}":
                field, at = _decimal(column, buffer, at)
            else:
                field, at = _column(column, buffer, at, _numbers(buffer, at, 4) if sizes is None else sizes)
            made.append(field)
            sizes = None
    return typed(made, len(rows))


def _widths(columns: Sequence[Column], buffer: Bytes, at: int) -> list[int]:
    """Of the columns at the front whose values are all of one size, that size, as the first row has it."""
    widths: list[int] = []
    for column in columns:
        if column.kind not in ("bool", "int64", "double", "date", "timestamp"):
            break
        width = int.from_bytes(buffer[at : at + 4].tobytes(), "big", signed=True)
        if width < 0:
            break
        widths.append(width)
        at += 4 + width
    return widths


def _fixed(
    columns: Sequence[Column], widths: Sequence[int], buffer: Bytes, at: Numbers
) -> tuple[list[tuple[pa.Field, pa.Array]], Numbers, Numbers | None] | None:
    """Columns that stand at the same places in every row, taken out in one piece: (they, where the next field begins, its sizes where
    there is one). None where one of them has a null."""
    more = len(columns) > len(widths)
    parts = [part for width in widths for part in (">i4", f"V{width}")] + [">i4"] * more
    whole = np.dtype([(f"f{place}", part) for place, part in enumerate(parts)])
    if int(at[-1]) + whole.itemsize > len(buffer):
        return None
    pieces = numbers_at(buffer, at, f"V{whole.itemsize}").view(whole)
    if any((pieces[f"f{2 * place}"] != width).any() for place, width in enumerate(widths)):
        return None
    fields = [
        _of_numbers(column, pieces[f"f{2 * place + 1}"].view(f">{_letter(column)}{width}"), None)
        for place, (column, width) in enumerate(zip(columns, widths))
    ]
    sizes = pieces[f"f{2 * len(widths)}"].astype(np.int64) if more else None
    return fields, at + sum(4 + width for width in widths), sizes


def _letter(column: Column) -> str:
    return {"double": "f", "bool": "u"}.get(column.kind or "", "i")


def _column(column: Column, buffer: Bytes, at: Numbers, sizes: Numbers) -> tuple[tuple[pa.Field, pa.Array], Numbers]:
    """(it, where the next field begins). sizes: as the fields say them, -1 for null; changed."""
    kind, starts = column.kind, at + 4
    valid = _valid(sizes)
    if kind in ("text", "json", "uuid", "decimal", "binary"):
        pieces = cut(buffer, starts, sizes, valid)
        if kind == "decimal":
            return decimals(column, as_text(pieces)), starts + sizes
        return field_of(column, kind, pieces if kind == "binary" else as_text(pieces)), starts + sizes
    numbers = _numbers(buffer, starts, int(sizes.max()) or 4, _letter(column))
    return _of_numbers(column, numbers, valid), starts + sizes


def _valid(sizes: Numbers) -> Flags | None:
    """Which are no nulls; None where all are. The sizes of nulls become 0."""
    if sizes.min() >= 0:
        return None
    valid: Flags = sizes >= 0
    sizes[~valid] = 0
    return valid


def _of_numbers(column: Column, values: Any, valid: Flags | None) -> tuple[pa.Field, pa.Array]:
    """values: as they stand in the field, whatever their width."""
    kind = column.kind
    assert kind is not None
    if kind == "bool":
        return field_of(column, kind, pa.array(values != 0, pa.bool_(), mask=None if valid is None else ~valid))
    if kind == "double":
        return field_of(column, kind, arrow_of(pa.float64(), values.astype(np.float64), valid))
    numbers = values.astype(np.int64)
    if kind == "date":
        # Infinity is the largest there is, minus infinity the smallest: far beyond what any warehouse holds, and so they stay.
        days = np.clip(numbers + _DAYS_TO_2000, _DAYS.min, _DAYS.max).astype(np.int32)
        return field_of(column, kind, arrow_of(pa.date32(), days, valid))
    if kind == "timestamp":
        infinite = (numbers > _MICROS.max - _MICROS_TO_2000) | (numbers == _MICROS.min)
        numbers = np.where(infinite, numbers, numbers + _MICROS_TO_2000)
        return field_of(column, kind, arrow_of(pa.timestamp("us", "UTC"), numbers, valid))
    return field_of(column, kind, arrow_of(pa.int64(), numbers, valid))


def _numbers(buffer: Bytes, starts: Numbers, width: int, what: str = "i") -> Any:
    """Numbers of `width` bytes, in 64 bits. What begins too near to the end is null, and may be anything."""
    return numbers_at(buffer, starts, f">{what}{width}").astype(f"{what}8")


def _decimal(column: Column, buffer: Bytes, at: Numbers) -> tuple[tuple[pa.Field, pa.Array], Numbers]:
    """A numeric of MOST_DIGITS at most, and where the next field begins: digits to the base of 10,000, of which the first counts
    `weight` times that."""
    pieces = numbers_at(buffer, at, f"V{_NUMERIC.itemsize}").view(_NUMERIC)
    sizes, front = pieces["size"].astype(np.int64), pieces["front"].astype(np.int64)
    starts, valid = at + 4, _valid(sizes)
    if valid is not None:
        front[~valid] = 0
    groups, weights, signs = front >> 48, (front >> 32 & 0xFFFF).astype(np.int16), front >> 16 & 0xFFFF
    if (signs >= _ODD).any():
        return decimals(column, _as_texts(buffer, starts, front, valid)), starts + sizes
    total = np.zeros(len(starts), np.int64)
    for place in range(int(groups.max())):
        near = pieces["digits"][:, place].astype(np.int64) if place < _NEAR_DIGITS else None
        digits = _numbers(buffer, starts + (8 + 2 * place), 2) if near is None else near
        up = 4 * (weights.astype(np.int64) - place) + column.fraction
        # Of the last four digits only those count that the column has; the others are zeros.
        part = digits * _POWERS[np.clip(up, 0, MOST_DIGITS)]
        if up.min() < 0:
            part //= _POWERS[np.clip(-up, 0, MOST_DIGITS)]
        total += part if place == 0 else np.where(place < groups, part, 0)
    if valid is not None or not groups.min():
        total[groups == 0] = 0
    np.negative(total, out=total, where=signs == _NEGATIVE)
    words = np.empty((len(total), 2), np.int64)
    words[:, 0], words[:, 1] = total, total >> 63
    kind = pa.decimal128(max(column.whole + column.fraction, 1), column.fraction)
    field = field_of(column, "decimal", arrow_of(kind, words.reshape(-1), valid), column.whole, column.fraction)
    return field, starts + sizes


def _as_texts(buffer: Bytes, starts: Numbers, front: Numbers, valid: Flags | None) -> pa.Array:
    """Where a NaN is among them, or an infinity. front: the first eight bytes of each."""
    names = {0xC000: "NaN", 0xD000: "Infinity", 0xF000: "-Infinity"}
    texts: list[str] = []
    for start, found in zip(starts.tolist(), front.tolist()):
        groups, weight, sign, scale = (found >> bits & 0xFFFF for bits in (48, 32, 16, 0))
        weight -= 0x10000 if weight >= 0x8000 else 0
        digits = np.frombuffer(buffer, ">u2", groups, start + 8).tolist() if groups else []
        value = sum((Decimal(digit).scaleb(4 * (weight - place)) for place, digit in enumerate(digits)), Decimal(0))
        minus = "-" if sign == _NEGATIVE else ""
        texts.append(names.get(sign) or f"{minus}{value:.{scale}f}")
    return pa.array(texts, pa.string(), mask=None if valid is None else ~valid)
