"""Decimals that arrive as text."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

import pyarrow as pa
import pyarrow.compute as pc

from .database import field_of
from .tables import Column


def decimals(column: Column, values: pa.Array) -> tuple[pa.Field, pa.Array]:
    """Numbers from text, exact. If the declared type does not limit their digits, the values do; what is not a number stays text."""
    text = values if values.type == pa.string() else values.cast(pa.string())
    if column.fraction >= 0:
        try:
            made = pc.cast(text, pa.decimal128(max(column.whole + column.fraction, 1), column.fraction))
            return field_of(column, "decimal", made, column.whole, column.fraction)
        except pa.ArrowInvalid:
            pass  # NaN
    try:
        numbers = [None if v is None else Decimal(v) for v in text.to_pylist()]
        if all(v is None or v.is_finite() for v in numbers):
            whole = max((v.adjusted() + 1 for v in numbers if v is not None), default=1)
            fraction = max((-v.as_tuple().exponent for v in numbers if v is not None), default=0)  # type: ignore[operator]
            whole, fraction = max(whole, 1), max(fraction, 0)
            if whole + fraction <= 76:
                kind = pa.decimal128(38, fraction) if whole + fraction <= 38 else pa.decimal256(76, fraction)
                return field_of(column, "decimal", pa.array(numbers, kind), whole, fraction)
    except InvalidOperation:
        pass
    return field_of(column, "text", text)
