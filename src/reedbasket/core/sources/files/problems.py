"""What can be wrong with one file. It ends neither the run nor the other files."""

from __future__ import annotations

from ...errors import SourceError


class FileProblem(SourceError):
    """One file that cannot be taken whole, and so is not taken at all. Codes: file.damaged, file.too_large, file.encoding,
    file.unreadable, file.changed, file.name_taken."""

    code = "file.unreadable"


class FileGone(SourceError):
    """A file that was listed is not there any more."""

    code = "file.gone"


def file_problem(code: str, found: str, fix: str) -> FileProblem:
    """Something that is wrong with one file, by a code of its own."""
    return FileProblem("reading a file", found=found, fix=fix, code=code)


def file_gone(path: str, where: str) -> FileGone:
    """A file that was listed and is there no more."""
    return FileGone("opening", path, found=f"it is not in {where} any more", fix="put it back, or let the next run skip it")
