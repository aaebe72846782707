"""What has been counted since the last commit."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ...records.position import SavedCursor
from ...warehouses.loading import Position, Seconds
from ..events import TableProgress


@dataclass
class CountsSinceCommit:
    """The counts of the next ledger line."""

    started: datetime
    read_before: float = 0.0
    rejected: int = 0
    repeated: int = 0
    source_bytes: int = 0
    filtered: int = 0
    unchanged: int = 0
    shaping: float = 0.0
    staging: float = 0.0

    def count(self, progress: TableProgress, **more: int) -> None:
        """Add to these counts and to the table's progress: rejected, repeated, filtered, unchanged."""
        for name, number in more.items():
            setattr(self, name, getattr(self, name) + number)
            setattr(progress, name, getattr(progress, name) + number)

    def position(self, cursor: SavedCursor | None, cursor_from: str | None, reading: float, **more: Any) -> Position:
        """The position to commit with the load.

        Args:
            reading: seconds spent reading since the run began.
        """
        seconds = Seconds(reading - self.read_before, self.shaping, self.staging)
        counted = (self.rejected, self.repeated, self.source_bytes, self.started)
        return Position(
            cursor, cursor_from, *counted, filtered=self.filtered, unchanged=self.unchanged, seconds=seconds, **more
        )
