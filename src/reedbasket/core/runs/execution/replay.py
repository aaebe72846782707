"""Records that a warehouse rejected before, and that it is given once more."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ...sources.chunk import Chunk, Origin


@dataclass(frozen=True)
class Replayed:
    """Of one table and warehouse.

    Attributes:
        records: as they came, the oldest first.
        runs: of each the last run that met it. What a later run loaded of the same key, or out of the same file, is newer, and stays.
        files: of each the number of the file it stood in; 0 for none, and where nobody kept it.
    """

    records: Sequence[dict[str, Any]]
    runs: Sequence[int]
    files: Sequence[int] = ()

    def without(self, places: Collection[int]) -> Replayed:
        """All but the records at these places."""
        stay = [place for place in range(len(self.records)) if place not in places]
        return Replayed(
            [self.records[place] for place in stay],
            [self.runs[place] for place in stay],
            [self.files[place] for place in stay] if self.files else (),
        )

    def chunk(self) -> Chunk:
        """As a reader yields them."""
        files = self.files or [0] * len(self.records)
        origins = tuple(Origin(1, number, "", lambda: ()) for number in files)
        return Chunk(list(self.records), 0, [], suspicious=True, origins=origins)


# By (warehouse, table).
Again = Mapping[tuple[str, str], Replayed]
