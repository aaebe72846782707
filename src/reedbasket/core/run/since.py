"""What a load has counted since the last commit."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


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
