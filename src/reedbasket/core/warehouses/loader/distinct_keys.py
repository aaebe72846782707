"""Keys of a load told apart as they come: asking a table of all of them takes a tenth of what loading it does."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

# With more stretches than this, keys come in no order.
_MOST_STRETCHES = 10_000
# Whole numbers are noted one by one, in blocks of as many bytes; so many at most.
_BLOCK = 1024 * 1024
_MOST_BLOCKS = 8


class KeyUniqueness:
    """By their order: in stretches that each only grow, and of which none reaches into another, no key comes twice. Most sources list
    them so, also where several ranges are read at once. And by themselves, where they are whole numbers near each other."""

    def __init__(self) -> None:
        self._count = 0
        # (first, last) of each. None, as of the flags: this tells nothing.
        self._stretches: list[tuple[Any, Any]] | None = []
        self._flags: dict[int, np.ndarray[Any, np.dtype[np.bool_]]] | None = {}

    def add(self, keys: pa.ChunkedArray) -> None:
        """More keys of the load."""
        if not len(keys):
            return
        self._count += len(keys)
        if keys.null_count:
            self._stretches = self._flags = None
        if self._stretches is not None:
            self._stretch(keys, self._stretches)
        if self._flags is not None and pa.types.is_int64(keys.type):
            self._flag(keys.to_numpy(), self._flags)
        else:
            self._flags = None

    @property
    def all_distinct(self) -> bool:
        """False also where that cannot be told."""
        found = self._stretches
        alike = found is not None and len({type(value) for stretch in found for value in stretch}) == 1
        if found and alike and all(before[1] < after[0] for before, after in pairwise(sorted(found))):
            return True
        return self._flags is not None and sum(np.count_nonzero(flags) for flags in self._flags.values()) == self._count

    def _stretch(self, keys: pa.ChunkedArray, stretches: list[tuple[Any, Any]]) -> None:
        # NaN is not greater than anything, and so a stretch of its own, which nothing is told apart from.
        falls = pc.indices_nonzero(pc.invert(pc.greater(keys.slice(1), keys.slice(0, len(keys) - 1))))
        if len(stretches) + len(falls) >= _MOST_STRETCHES:
            self._stretches = None
            return
        ends = [*falls.to_pylist(), len(keys) - 1]
        stretches += [(keys[begin].as_py(), keys[end].as_py()) for begin, end in zip([0, *(end + 1 for end in ends)], ends)]

    def _flag(self, keys: np.ndarray[Any, np.dtype[np.int64]], flags: dict[int, np.ndarray[Any, np.dtype[np.bool_]]]) -> None:
        blocks = range(int(keys.min()) // _BLOCK, int(keys.max()) // _BLOCK + 1)
        if len(blocks) > _MOST_BLOCKS or len(flags.keys() | blocks) > _MOST_BLOCKS:
            self._flags = None
            return
        for block in blocks:
            if block not in flags:
                flags[block] = np.zeros(_BLOCK, np.bool_)
            inside = keys if len(blocks) == 1 else keys[keys // _BLOCK == block]
            flags[block][inside - block * _BLOCK] = True
