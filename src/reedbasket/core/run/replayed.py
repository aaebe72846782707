"""Records that a warehouse rejected before, and that it is given once more."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Replayed:
    """Of one table and warehouse.

    Attributes:
        records: as they came, the oldest first.
        runs: of each the last run that met it. What a later run loaded of the same key is newer, and stays.
    """

    records: Sequence[dict[str, Any]]
    runs: Sequence[int]


# By (warehouse, table).
Again = Mapping[tuple[str, str], Replayed]
