"""The error for all files of a table that could not be read."""

from __future__ import annotations

from collections.abc import Sequence

from ...sources.files.problems import FileProblem, file_problem

_NAMED = 5


def named(paths: Sequence[str]) -> str:
    """The first few paths by name, and how many more there are."""
    if len(paths) <= _NAMED:
        return ", ".join(paths)
    return f"{', '.join(paths[:_NAMED])} and {len(paths) - _NAMED} more files"


def as_problem(found: Sequence[tuple[str, FileProblem]], *, written: bool) -> FileProblem | None:
    """One error for all of them.

    Args:
        found: (path, what is wrong with it).
        written: the other files are loaded all the same.

    Returns:
        None if nothing is wrong.
    """
    if not found:
        return None
    first = found[0][1]
    words = first.found
    if len(found) > 1:
        others = "the others are loaded" if written else "and nothing was written"
        words = f"{len(found)} files could not be read, {others}: {named([path for path, _ in found])}; the first: {words}"
    return file_problem(first.code, words, first.fix)
