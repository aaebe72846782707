"""What can be wrong with one file. It ends neither the run nor the other files."""

from __future__ import annotations

from ...errors import SourceError


class FileProblem(SourceError):
    """One file that cannot be taken whole, and so is not taken at all. Codes: file.damaged, file.too_large, file.encoding,
    file.unreadable, file.changed, file.name_taken."""

    code = "file.unreadable"

    def __init__(self, code: str, found: str, mend: str) -> None:
        super().__init__("reading a file", "", found=found, mend=mend, code=code)

    def __reduce__(self) -> tuple[object, ...]:
        return FileProblem, (self.code, self.found, self.mend)
