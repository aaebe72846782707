"""Batches from ADBC, converted to our types."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from ...records.column_types import Kind
from ..sql.database import field_of, typed
from ..sql.decimals import decimals
from ..sql.tables import Column

ARROW_TYPES: dict[Kind, pa.DataType] = {
    "bool": pa.bool_(), "int64": pa.int64(), "double": pa.float64(), "text": pa.string(), "json": pa.string(),
    "uuid": pa.string(), "binary": pa.binary(), "date": pa.date32(), "timestamp": pa.timestamp("us", "UTC"),
}  # fmt: skip


# PostgreSQL counts from the first of January 2000 on.
_DAYS_TO_2000 = 10_957
_MICROS_TO_2000 = 946_684_800_000_000


def to_columns(columns: Sequence[Column], batch: pa.RecordBatch) -> pa.Table:
    """The columns, in the order in which they were selected."""
    fields = []
    for column, values in zip(columns, batch.columns):
        assert column.kind is not None
        if column.kind == "decimal":
            # The driver has no type of its own for them, and hands over their text.
            fields.append(decimals(column, values.storage if isinstance(values, pa.ExtensionArray) else values))
        else:
            wanted = ARROW_TYPES[column.kind]
            values = values if values.type == wanted else values.cast(wanted)
            if column.kind in ("date", "timestamp"):
                values = _unwrapped(values)
            fields.append(field_of(column, column.kind, values))
    return typed(fields, batch.num_rows)


def _unwrapped(values: pa.Array) -> pa.Array:
    """Dates and times whose infinities are the largest and the smallest values.

    PostgreSQL sends them as the ends of its range; the driver adds the distance between its epoch and Unix time, and if that overflows, it
    wraps around.
    """
    kind, ours = (pa.int32(), _DAYS_TO_2000) if pa.types.is_date32(values.type) else (pa.int64(), _MICROS_TO_2000)
    width = kind.bit_width - 1
    numbers, lowest = values.view(kind), -(2**width) + ours
    if values.null_count == len(values) or pc.min(numbers).as_py() > lowest:
        return values
    numbers = pc.if_else(
        pc.less(numbers, pa.scalar(lowest, kind)),
        pa.scalar(2**width - 1, kind),
        pc.if_else(pc.equal(numbers, pa.scalar(lowest, kind)), pa.scalar(-(2**width), kind), numbers),
    )
    return numbers.view(values.type)
