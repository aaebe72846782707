"""Batches as ADBC hands them over, made columns of our kinds."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from ...records.column_types import Kind
from ..sql.database import field_of, typed
from ..sql.decimals import decimals
from ..sql.tables import Column

ARROW_TYPES: dict[Kind, pa.DataType] = {
    "bool": pa.bool_(), "int64": pa.int64(), "double": pa.float64(), "text": pa.string(), "json": pa.string(),
    "uuid": pa.string(), "binary": pa.binary(), "date": pa.date32(), "timestamp": pa.timestamp("us", "UTC"),
}  # fmt: skip


def to_columns(columns: Sequence[Column], batch: pa.RecordBatch) -> pa.Table:
    """Columns in the order in which they were selected."""
    fields = []
    for column, values in zip(columns, batch.columns):
        assert column.kind is not None
        if column.kind == "decimal":
            # The driver has no type of its own for them, and hands over their text.
            fields.append(decimals(column, values.storage if isinstance(values, pa.ExtensionArray) else values))
        else:
            wanted = ARROW_TYPES[column.kind]
            fields.append(field_of(column, column.kind, values if values.type == wanted else values.cast(wanted)))
    return typed(fields, batch.num_rows)
