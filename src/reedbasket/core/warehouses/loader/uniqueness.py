"""Whether a key is repeated in one load, as far as memory allows."""

from __future__ import annotations

from collections.abc import Sequence

from ...shaping.batch import TableBatch

# Hashes of keys held to see whether one repeats; half a million take about 40 MB.
_MOST_KEYS_HELD = 500_000


class SeenKeys:
    """The keys of one load, as hashes: a collision only costs the slower way.

    Attributes:
        repeated: some key was repeated, or may have been.
    """

    def __init__(self) -> None:
        self._keys: set[int] | None = set()
        self._noted = 0
        self.repeated = False

    def repeats(self, key: Sequence[str], batch: TableBatch, before: int) -> bool:
        """Note the keys of a batch, and return whether one of them was repeated in it or before.

        Args:
            key: columns of the batch.
            before: rows of the load before it; if some were not noted, nothing is known.
        """
        if self._keys is not None and (len(self._keys) > _MOST_KEYS_HELD or self._noted < before):
            self._keys = None
        if self._keys is None:
            self.repeated = True
            return True
        columns = []
        for name in key:
            data = batch.columns[name][1]
            columns.append(data if isinstance(data, list) else data.to_pylist())
        known = len(self._keys)
        self._keys.update(map(hash, columns[0] if len(columns) == 1 else zip(*columns)))
        found = len(self._keys) < known + batch.rows
        self._noted += batch.rows
        self.repeated = self.repeated or found
        return found

    def forget(self) -> None:
        """Forget the keys, but not whether one was repeated."""
        self._keys, self._noted = set(), 0
