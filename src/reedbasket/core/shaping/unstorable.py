"""Rejecting records with values that the warehouse cannot hold."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..records.value_limits import ValueLimits
from .batch import Reject, ShapedBatch, TableBatch

# In JSON a backslash may itself be written as two: then what stands behind it is plain text.
_NUL_IN_JSON = re.compile(r"(?<!\\)(?:\\\\)*\\u0000")


def reject_unstorable(limits: ValueLimits, shaped: ShapedBatch, batch: TableBatch, bad: dict[int, Reject]) -> None:
    """Note the records of one table's batch that have such a value.

    Args:
        shaped: the records that the batch was shaped from.
        bad: takes the rejects, by the record's number.
    """
    for name, (kind, data) in batch.columns.items():
        if kind in ("text", "json") and not limits.nul_in_text:
            rows = _rows_with_nul(kind, data)
            code, what = "value.nul_in_text", "text with the character U+0000"
        elif kind == "double" and not limits.not_finite:
            rows = _rows_not_finite(data)
            code, what = "value.not_finite", "a number that is NaN or infinite"
        else:
            continue
        for row in rows:
            place = batch.owners[row] - shaped.batches[0].owners[0]
            reject = Reject(place, code, f"{what}, which this warehouse cannot store", name, shaped.kept[place])
            bad.setdefault(batch.owners[row], reject)


def _rows_with_nul(kind: str, data: Any) -> list[int]:
    mark = "\x00" if kind == "text" else "\\u0000"
    there: Callable[[str], Any] = _NUL_IN_JSON.search if kind == "json" else _holds_nul
    if isinstance(data, list):
        held = mark in "".join(v for v in data if v)
    else:
        held = _stands_in(mark.encode(), data) and pc.any(pc.match_substring(data, mark)).as_py()
    return [row for row, value in _listed(data) if value and mark in value and there(value)] if held else []


def _rows_not_finite(data: Any) -> list[int]:
    if not isinstance(data, list) and (not pa.types.is_floating(data.type) or pc.all(pc.is_finite(data)).as_py() is not False):
        return []
    return [row for row, value in _listed(data) if value is not None and not math.isfinite(value)]


def _listed(data: Any) -> Iterable[tuple[int, Any]]:
    return enumerate(data if isinstance(data, list) else data.to_pylist())


def _holds_nul(value: str) -> bool:
    return "\x00" in value


def _stands_in(mark: bytes, data: pa.Array | pa.ChunkedArray) -> bool:
    """Whether bytes occur anywhere in the buffers of texts, in a fifteenth of the time of looking at each text."""
    for chunk in data.chunks if isinstance(data, pa.ChunkedArray) else [data]:
        if len(chunk) and pa.types.is_string(chunk.type) and (held := chunk.buffers()[2]) is not None:
            begin, end = np.frombuffer(chunk.buffers()[1], np.int32)[[chunk.offset, chunk.offset + len(chunk)]].tolist()
            part = memoryview(held)[begin:end]
            if len(mark) > 1 and mark in bytes(part):
                return True
            if len(mark) == 1 and (np.frombuffer(part, np.uint8) == mark[0]).any():
                return True
        elif len(chunk) and not pa.types.is_string(chunk.type):
            return True  # as far as the buffers tell
    return False
