"""What a run tells of a table once all its records are taken."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..shape.shaper import Shaper
from ..shape.unmatched import unmatched
from .events import TableProgress


def closing_notes(progress: TableProgress, shaper: Shaper) -> Iterator[tuple[Any, str, str]]:
    """For the run's log: (level, code, words)."""
    unseen = [name for name in shaper.structure.unseen() if name not in shaper.left_out]
    if unseen and progress.read:
        yield "info", "structure.only_nulls", f"only nulls so far, no column made yet: {', '.join(unseen)}"
    if shaper.left_out:
        yield "info", "column.left_out", f"left out by the feed: {', '.join(sorted(shaper.left_out))}"
    for rule in unmatched(shaper.rules, shaper.structure) if progress.read else []:
        yield "warning", "shaping.unmatched", f"no record has brought what the feed names: {rule}"
    if progress.held_back:
        words = f"{progress.held_back} records stand beyond where this run ends, by the source's clock; a later one takes them"
        yield "warning", "cursor.held_back", words
