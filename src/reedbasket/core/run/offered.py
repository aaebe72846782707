"""What a source has of what a feed names, and what the warehouse has of it already."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..errors import ReedError
from ..load.files import FileLine
from ..shape.structure import TableShape
from .order import RunOrder


@dataclass
class Offered:
    """What the source has of what the feed names. problems: {table: why it cannot be taken}. notes: for the run's log,
    (level, code, words)."""

    order: RunOrder
    problems: dict[str, ReedError]
    notes: list[tuple[Any, str, str]]


@dataclass(frozen=True)
class Held:
    """What the warehouse has of a table: its structure, and the files that are in it."""

    structure: TableShape | None
    files: Sequence[FileLine]
