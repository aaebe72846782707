"""What a load has counted since the last commit."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ...records.position import SavedCursor
from ...warehouses.loading import Position, Seconds
from ..events import TableProgress


@dataclass
class SinceCommit:
    """What the next ledger line will say."""

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
        """Here and in what the run shows of the table: rejected, repeated, filtered, unchanged."""
        for name, number in more.items():
            setattr(self, name, getattr(self, name) + number)
            setattr(progress, name, getattr(progress, name) + number)

    def position(self, cursor: SavedCursor | None, cursor_from: str | None, reading: float, **more: Any) -> Position:
        """What the load is committed with. reading: seconds that reading has taken since the run began."""
        seconds = Seconds(reading - self.read_before, self.shaping, self.staging)
        counted = (self.rejected, self.repeated, self.source_bytes, self.started)
        return Position(
            cursor, cursor_from, *counted, filtered=self.filtered, unchanged=self.unchanged, seconds=seconds, **more
        )
