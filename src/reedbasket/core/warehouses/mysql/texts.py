"""Batches as columns of text, as the server reads values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ...records.arrow import loader_column, to_arrow
from ...records.column_types import ColumnData, Kind
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from .bulk import Texts
from .types import TypeNames

_TIME = pa.timestamp("us")
_QUOTED: frozenset[Kind] = frozenset({"text", "json", "uuid", "date", "timestamp"})


def texts_of(names: TypeNames, columns: Sequence[ColumnShape], batch: TableBatch) -> Texts:
    """The batch in the types of `columns`, without those that it does not have.

    Args:
        names: of types, and how names are written.
    """
    made: list[tuple[str, bool, bool, pa.Array]] = []
    own = batch.own
    for column in columns:
        name = names.quote(column.name)
        if column.name in own:
            values = own[column.name]
            if values is not None:
                made.append((name, False, True, loader_column(column.kind, values).cast(pa.string())))
        elif column.name in batch.columns:
            kind, data = batch.columns[column.name]
            made.append((name, column.kind == "binary", column.kind in _QUOTED, _text(column, kind, data)))
    return made


def _text(column: ColumnShape, kind: Kind, data: ColumnData) -> Any:
    if column.kind == "decimal":
        return _decimals(data)
    array = to_arrow(column, kind, data)
    if column.kind == "binary":
        return pa.array([None if v is None else v.hex() for v in array.to_pylist()], pa.string())
    if column.kind == "bool":
        return array.cast(pa.uint8()).cast(pa.string())
    if column.kind == "timestamp":
        return array.cast(_TIME).cast(pa.string())
    return array if array.type == pa.string() else array.cast(pa.string())


def _decimals(data: ColumnData) -> Any:
    """Without an exponent, which Arrow writes for the smallest."""
    if isinstance(data, pa.Array | pa.ChunkedArray):
        text = data.cast(pa.string())
        if not (pa.types.is_decimal(data.type) and pc.any(pc.match_substring(text, "E")).as_py()):
            return text
        data = data.to_pylist()
    plain = [
        None if v is None else v if isinstance(v, str) else format(v, "f") if hasattr(v, "is_nan") else repr(v) for v in data
    ]
    return pa.array(plain, pa.string())
