"""One batch of records that several are given: the first to come shapes it, the others take what it came to."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from .batch import Shaped
from .shaper import Learned, Shaper


class SharedBatch:
    """first_owner: of its records, counted through the whole pass. `_lock` guards what was made of them."""

    def __init__(self, first_owner: int) -> None:
        self.first_owner = first_owner
        self._lock = threading.Lock()
        self._made: list[tuple[Any, Shaped, Learned]] = []

    def by(self, shaper: Shaper, records: Sequence[dict[str, Any]], *, suspicious: bool) -> Shaped:
        """What this shaper makes of the batch: taken from the one that came first where both have learned the same so far. Raises
        DriftStopped."""
        with self._lock:
            before = shaper.standing
            for standing, shaped, learned in self._made:
                if standing == before:
                    shaper.take_over(learned)
                    return _own(shaped)
            shaped = shaper.shape(records, self.first_owner, suspicious=suspicious)
            self._made.append((before, shaped, shaper.learned()))
            return _own(shaped)


def _own(shaped: Shaped) -> Shaped:
    """With batches whose columns may be replaced by others."""
    return replace(shaped, batches=[replace(batch, columns=dict(batch.columns)) for batch in shaped.batches])
