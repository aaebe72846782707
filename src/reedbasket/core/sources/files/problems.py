"""What can be wrong with one file. It ends neither the run nor the other files."""

from __future__ import annotations

from ...errors import SourceError


class FileProblem(SourceError):
    """One file that cannot be loaded as a whole, and so is not loaded at all. Codes: file.damaged, file.too_large, file.encoding,
    file.unreadable, file.changed, file.name_taken.
    """

    code = "file.unreadable"


class FileMissing(SourceError):
    """A file that was listed no longer exists."""

    code = "file.missing"


def file_problem(code: str, found: str, fix: str) -> FileProblem:
    """The error for one file, with its own code."""
    return FileProblem("reading a file", found=found, fix=fix, code=code)


def file_gone(path: str, where: str) -> FileMissing:
    """The error for a file that was listed and no longer exists."""
    return FileMissing("opening", path, found=f"it is no longer in {where}", fix="put it back, or let the next run skip it")
