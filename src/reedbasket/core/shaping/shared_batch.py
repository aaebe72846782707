"""One batch of records for several warehouses: the first one shapes it, and the others use the result."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from .batch import ShapedBatch
from .shaper import LearnedStructure, Shaper


class SharedBatch:
    """A shared batch. `_lock` guards its results.

    Args:
        first_owner: the number of its first record, counted through the whole pass.
    """

    def __init__(self, first_owner: int) -> None:
        self.first_owner = first_owner
        self._lock = threading.Lock()
        self._made: list[tuple[Any, ShapedBatch, LearnedStructure]] = []

    def by(self, shaper: Shaper, records: Sequence[dict[str, Any]], *, suspicious: bool) -> ShapedBatch:
        """The batch as this shaper shapes it; the first one's result if both have learned the same so far.

        Raises:
            DriftFailed: the rules say to fail.
        """
        with self._lock:
            before = shaper.standing
            for standing, shaped, learned in self._made:
                if standing == before:
                    shaper.adopt(learned)
                    return _own(shaped)
            shaped = shaper.shape(records, self.first_owner, suspicious=suspicious)
            self._made.append((before, shaped, shaper.learned()))
            return _own(shaped)


def _own(shaped: ShapedBatch) -> ShapedBatch:
    """With batches whose columns may be replaced by others."""
    return replace(shaped, batches=[replace(batch, columns=dict(batch.columns)) for batch in shaped.batches])
