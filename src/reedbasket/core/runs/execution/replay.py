"""Rejected records that a warehouse is given again."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ...sources.chunk import Chunk, Origin


@dataclass(frozen=True)
class Replayed:
    """The rejected records of one table in one warehouse.

    Attributes:
        records: as they arrived, the oldest first.
        runs: for each, the last run that read it. Rows of the same key or file that a later run loaded are newer, and stay.
        files: for each, the number of its file; 0 if it came from no file or the file is not known.
    """

    records: Sequence[dict[str, Any]]
    runs: Sequence[int]
    files: Sequence[int] = ()

    def without(self, places: Collection[int]) -> Replayed:
        """All records except those at these positions."""
        stay = [place for place in range(len(self.records)) if place not in places]
        return Replayed(
            [self.records[place] for place in stay],
            [self.runs[place] for place in stay],
            [self.files[place] for place in stay] if self.files else (),
        )

    def chunk(self) -> Chunk:
        """The records as a reader would yield them."""
        files = self.files or [0] * len(self.records)
        origins = tuple(Origin(1, number, "", lambda: ()) for number in files)
        return Chunk(list(self.records), 0, [], suspicious=True, origins=origins)


# By (warehouse, table).
ReplayedRejects = Mapping[tuple[str, str], Replayed]
