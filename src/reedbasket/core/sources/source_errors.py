"""What goes wrong at any source, as our own errors."""

from __future__ import annotations

from ..errors import SourceError, SourceUnreachable


class SourceErrors:
    """Errors of one source.

    Attributes:
        on: where the source is, without secrets.
        failed_code: of errors that are known by the server's own words alone.
        failed_fix: where to look for more about those.
    """

    failed_code = "source.failed"
    failed_fix = "see the server's own words"

    def __init__(self, on: str) -> None:
        self.on = on

    def unreachable(self, doing: str, words: str) -> SourceError:
        """It does not answer, or the connection broke off."""
        fix = "see whether the server is up; what was committed stays, so run again"
        return SourceUnreachable(doing, self.on, found=words, fix=fix)

    def failed(self, doing: str, words: str, fix: str = "") -> SourceError:
        """Whatever else it says."""
        return SourceError(doing, self.on, found=words, fix=fix or self.failed_fix, code=self.failed_code)
