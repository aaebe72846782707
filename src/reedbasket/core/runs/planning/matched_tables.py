"""What a source has of what a feed names, and what the warehouse has of it already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ...errors import DefinitionError, ReedError
from ...records.structure import TableShape
from ...warehouses.loader.file_list import FileLine
from .order import ResolvedRun

# More tables than this that nobody asked for are counted, not named.
_MOST_NAMED = 20


def ignored(names: Sequence[str], where: str) -> list[tuple[Any, str, str]]:
    """For the run's log: what is there, and no part of the feed."""
    if not names:
        return []
    listed = ", ".join(names) if len(names) <= _MOST_NAMED else f"{len(names)} tables"
    return [("info", "table.ignored", f"{where}, not part of this feed: {listed}")]


def notes_on_patterns(patterns: Sequence[str]) -> list[tuple[Any, str, str]]:
    """A warning for each pattern that no table matches."""
    return [("warning", "table.no_match", f"no table matches {pattern}") for pattern in patterns]


def none_at_all(patterns: Sequence[str], taken: int, problems: Mapping[str, ReedError]) -> dict[str, ReedError]:
    """{pattern: error} where a feed would read nothing: a run of no table is no success.

    Args:
        patterns: those that match nothing.
        taken: how many tables the feed takes.
        problems: of tables that cannot be taken.
    """
    if taken or problems:
        return {}
    found = "no table matches this pattern, and the feed takes no other"
    fix = "`reed survey SOURCE` lists the tables that the source's user can read; fix the pattern, or give the right to read"
    return {p: DefinitionError("taking", p, found=found, fix=fix, code="definition.unknown_table") for p in patterns}


@dataclass
class MatchedTables:
    """What the source has of what the feed names. problems: {table: why it cannot be taken}. notes: for the run's log,
    (level, code, words)."""

    order: ResolvedRun
    problems: dict[str, ReedError]
    notes: list[tuple[Any, str, str]]


@dataclass(frozen=True)
class Held:
    """What the warehouse has of a table: its structure, and the files that are in it."""

    structure: TableShape | None
    files: Sequence[FileLine]
