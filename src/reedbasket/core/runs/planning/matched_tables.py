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
    """For the run's log: what exists and is not part of the feed."""
    if not names:
        return []
    listed = ", ".join(names) if len(names) <= _MOST_NAMED else f"{len(names)} tables"
    return [("info", "table.ignored", f"{where}, not part of this feed: {listed}")]


def warnings_for_empty_patterns(patterns: Sequence[str]) -> list[tuple[Any, str, str]]:
    """A warning for each pattern that matches no table."""
    return [("warning", "table.no_match", f"no table matches {pattern}") for pattern in patterns]


def empty_patterns(patterns: Sequence[str], taken: int, problems: Mapping[str, ReedError]) -> dict[str, ReedError]:
    """{pattern: error} if a feed would read nothing: a run without a table does not succeed.

    Args:
        patterns: those that match nothing.
        taken: how many tables the feed reads.
        problems: of tables that cannot be read.
    """
    if taken or problems:
        return {}
    found = "no table matches this pattern, and the feed has no other tables"
    fix = "`reed survey SOURCE` lists the tables that the source's user can read; fix the pattern, or grant the right to read"
    return {p: DefinitionError("taking", p, found=found, fix=fix, code="definition.unknown_table") for p in patterns}


@dataclass
class MatchedTables:
    """What the source has of what the feed names.

    Attributes:
        problems: {table: why it cannot be read}.
        notes: lines for the run's log: (level, code, text).
    """

    order: ResolvedRun
    problems: dict[str, ReedError]
    notes: list[tuple[Any, str, str]]


@dataclass(frozen=True)
class LoadedTable:
    """What the warehouse has of a table: its structure, and the files that are loaded."""

    structure: TableShape | None
    files: Sequence[FileLine]
