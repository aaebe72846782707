"""Some rows of a batch, or only keys."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..records.layout import Family
from .batch import TableBatch
from .values import as_text


def key_batch(family: Family, rows: Sequence[tuple[Any, ...]]) -> TableBatch:
    """A batch of keys alone, from a warehouse or from the source."""
    kinds = {column.name: column.kind for column in family.root.columns}
    columns = {name: (kinds[name], [row[n] for row in rows]) for n, name in enumerate(family.key)}
    return TableBatch(
        family.root.name, len(rows), range(len(rows)), columns={n: _key_values(k, d) for n, (k, d) in columns.items()}
    )


def only(batch: TableBatch, owners: set[int], key: Sequence[str]) -> TableBatch:
    """The key columns of some rows."""
    others = {owner for owner in batch.owners if owner not in owners}
    chosen = without(batch, others)
    return TableBatch(batch.table, chosen.rows, chosen.owners, columns={name: chosen.columns[name] for name in key})


def without(batch: TableBatch, owners: set[int]) -> TableBatch:
    """The rows of a batch that belong to none of these records."""
    keep = [owner not in owners for owner in batch.owners]
    if all(keep):
        return batch

    def chosen(values: Any) -> Any:
        if values is None:
            return None
        if isinstance(values, pa.Array | pa.ChunkedArray):
            return pc.filter(values, pa.array(keep))
        return [v for v, ok in zip(values, keep) if ok]

    return TableBatch(
        batch.table,
        sum(keep),
        chosen(batch.owners),
        chosen(batch.parents),
        chosen(batch.positions),
        chosen(batch.references),
        chosen(batch.files),
        {name: (kind, chosen(data)) for name, (kind, data) in batch.columns.items()},
    )


def _key_values(kind: Any, data: list[Any]) -> tuple[Any, Any]:
    if kind == "text":
        return kind, as_text(data)  # a source's numbers, in a column that once met text
    if kind == "date":
        return kind, pa.array(data, pa.string()).cast(pa.date32()) if data and isinstance(data[0], str) else pa.array(data)
    if kind == "timestamp":
        if data and isinstance(data[0], str):
            return kind, pa.array(data, pa.string()).cast(pa.timestamp("us", "UTC"))
        return kind, pa.array(data, pa.timestamp("us", "UTC"))
    return kind, data
