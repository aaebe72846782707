"""Columns made rows of binary COPY, many at a time: 0.9 us a row of twelve columns, of which the driver makes two.

Source: PostgreSQL's documentation, COPY, "Binary Format"; its sources, the `…recv` functions of each type (src/backend/utils/adt).
Every value stands behind its length, -1 for null; numbers are big endian. What is of one size in all rows is laid out by numpy, what
is not is put between by arrow.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Context, Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...records.column_types import Kind

_DAYS_TO_2000 = 10_957
_MICROS_TO_2000 = 946_684_800_000_000
_NEGATIVE = 0x4000
_EXACT = Context(prec=100)
_LIMB = np.uint64(0xFFFFFFFF)
_ZEROS_BEHIND = np.array([0, *(len(text) - len(text.rstrip("0")) for text in map(str, range(1, 10_000)))], np.int64)
_KINDS: dict[pa.DataType, Kind] = {
    pa.bool_(): "bool", pa.int64(): "int64", pa.float64(): "double", pa.date32(): "date", pa.timestamp("us", "UTC"): "timestamp",
    pa.string(): "text", pa.binary(): "binary",
}  # fmt: skip
Field = tuple[str, Any]


def in_binary(batch: pa.RecordBatch) -> memoryview:
    """The rows of a batch, one after the other, without what a COPY begins and ends with. At least one row."""
    rows = batch.num_rows
    pieces: list[pa.Array] = []
    fixed: list[Field] = [(">i2", batch.num_columns)]
    for values in batch.columns:
        kind = _kind_of(values.type)
        values = values.storage if isinstance(values, pa.ExtensionArray) else values
        null = np.asarray(values.is_null()) if values.null_count else None
        whole = _fixed(kind, values)
        if whole is not None and null is None:
            fixed += whole
            continue
        if whole is not None:
            pieces += [_laid_out(fixed, rows), _without_nulls(_laid_out(whole, rows), null)]
            fixed = []
            continue
        texts = _texts(kind, values)
        sizes = np.diff(np.frombuffer(texts.buffers()[1], np.int32)[texts.offset : texts.offset + rows + 1])
        pieces += [_laid_out([*fixed, (">i4", sizes if null is None else np.where(null, -1, sizes))], rows), texts]
        fixed = []
    if fixed:
        pieces.append(_laid_out(fixed, rows))
    joined = pc.binary_join_element_wise(*pieces, b"") if len(pieces) > 1 else pieces[0]
    end = int(np.frombuffer(joined.buffers()[1], np.int32)[joined.offset + rows])
    return memoryview(joined.buffers()[2])[:end]


def _kind_of(kind: pa.DataType) -> Kind:
    if isinstance(kind, pa.JsonType):
        return "json"
    if pa.types.is_decimal(kind):
        return "decimal"
    return _KINDS[kind]


def _laid_out(fields: Sequence[Field], rows: int) -> pa.Array:
    """Numbers that stand in every row, as the bytes of each."""
    made = np.empty(rows, np.dtype([(f"f{place}", kind) for place, (kind, _) in enumerate(fields)]))
    for place, (_, values) in enumerate(fields):
        made[f"f{place}"] = values
    offsets = np.arange(rows + 1, dtype=np.int32) * made.dtype.itemsize
    return pa.Array.from_buffers(pa.binary(), rows, [None, pa.py_buffer(offsets), pa.py_buffer(made)], 0)


def _without_nulls(values: pa.Array, null: Any) -> pa.Array:
    """Length and value; of nulls the length alone."""
    return pc.if_else(pa.array(null), pa.scalar(b"\xff\xff\xff\xff", pa.binary()), values)


def _fixed(kind: Kind, values: pa.Array) -> list[Field] | None:
    """Length and value where all are of one size; of nulls whatever stands there."""
    if kind == "bool":
        return [(">i4", 1), ("u1", np.asarray(pc.fill_null(values, False).cast(pa.uint8())))]
    if kind == "decimal":
        return _numeric(values)
    if kind not in ("int64", "double", "date", "timestamp"):
        return None
    plain = values.view(pa.int32()) if kind == "date" else values.view(pa.int64()) if kind == "timestamp" else values
    numbers: Any = np.asarray(pc.fill_null(plain, 0))
    if kind == "date":
        return [(">i4", 4), (">i4", numbers - _DAYS_TO_2000)]
    if kind == "timestamp":
        return [(">i4", 8), (">i8", numbers - _MICROS_TO_2000)]
    return [(">i4", 8), (">f8" if kind == "double" else ">i8", numbers)]


def _numeric(values: pa.Array) -> list[Field] | None:
    """Digits to the base of 10,000, as many in every row: the server drops zeros in front and behind. None of more than 128 bits."""
    if not pa.types.is_decimal128(values.type):
        return None
    words = np.frombuffer(values.buffers()[1], np.uint64)[2 * values.offset : 2 * (values.offset + len(values))].reshape(-1, 2)
    low, high = words[:, 0], words[:, 1]
    if values.null_count:
        null = np.asarray(values.is_null())
        low, high = np.where(null, 0, low), np.where(null, 0, high)
    below = high >> 63 != 0
    if below.any():
        low = np.where(below, ~low + 1, low)
        high = np.where(below, ~high + (low == 0), high)
    scale = values.type.scale
    behind = -(-scale // 4)
    groups = _groups(low, high, 10 ** (4 * behind - scale))
    groups += [np.zeros(len(values), np.int64)] * (behind - len(groups))
    # Digits behind the point that are said to be there: those up to the last that is no zero.
    shown, told = np.zeros(len(values), np.int64), np.zeros(len(values), np.bool_)
    for place, group in enumerate(groups[:behind]):
        last = ~told & (group > 0)
        shown = np.where(last, 4 * (behind - place) - _ZEROS_BEHIND[group], shown)
        told |= last
    head: list[Field] = [(">i4", 8 + 2 * len(groups)), (">i2", len(groups)), (">i2", len(groups) - behind - 1)]
    signs = np.where(below, _NEGATIVE, 0)
    return [*head, (">i2", signs), (">i2", shown), *((">i2", group) for group in reversed(groups))]


def _groups(low: Any, high: Any, factor: int) -> list[Any]:
    """The digits of a number of 128 bits, times a factor, to the base of 10,000, the lowest first: none where all are zero."""
    limbs, carry = [], np.zeros(len(low), np.int64)
    for limb in (low & _LIMB, low >> 32, high & _LIMB, high >> 32):
        whole = limb.astype(np.int64) * factor + carry
        limbs.append(whole & int(_LIMB))
        carry = whole >> 32
    limbs.append(carry)
    groups: list[Any] = []
    while True:
        while limbs and not limbs[-1].any():
            limbs.pop()
        if not limbs:
            return groups
        rest = np.zeros(len(low), np.int64)
        for place in reversed(range(len(limbs))):
            whole = rest << 32 | limbs[place]
            limbs[place] = whole // 100_000_000
            rest = whole - limbs[place] * 100_000_000
        above = rest // 10_000
        groups += [rest - above * 10_000, above]


def _texts(kind: Kind, values: pa.Array) -> pa.Array:
    """The bytes of each; of nulls none."""
    if kind == "decimal":
        return pa.array([b"" if v is None else _one_numeric(v) for v in values.to_pylist()], pa.binary())
    if kind == "json":
        values = pc.binary_join_element_wise(b"\x01", values.cast(pa.binary()), b"")  # the version of jsonb's binary form
    return pc.fill_null(values.cast(pa.binary()), b"")


def _one_numeric(value: Decimal) -> bytes:
    sign, digits, exponent = (value.normalize(_EXACT) if value else Decimal(0)).as_tuple()
    scale = max(-int(exponent), 0)
    text = "".join(map(str, digits)) + "0" * max(int(exponent), 0)
    text = text.rjust(scale + 1, "0")
    whole, fraction = text[: len(text) - scale], text[len(text) - scale :]
    whole, fraction = whole.rjust(-(-len(whole) // 4) * 4, "0"), fraction.ljust(-(-scale // 4) * 4, "0")
    groups = [int((whole + fraction)[at : at + 4]) for at in range(0, len(whole + fraction), 4)]
    head = [len(groups), len(whole) // 4 - 1, _NEGATIVE if sign else 0, scale]
    return np.array([*head, *groups], ">i2").tobytes()
