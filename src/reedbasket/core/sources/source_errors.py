"""The errors of any source."""

from __future__ import annotations

from ..errors import SourceError, SourceUnreachable


class SourceErrors:
    """Makes the errors of one source.

    Attributes:
        on: where the source is, without secrets.
        failed_code: for errors that are known only by the server's own words.
        failed_fix: where to look for more about those.
    """

    failed_code = "source.failed"
    failed_fix = "see the server's own words"

    def __init__(self, on: str) -> None:
        self.on = on

    def unreachable(self, doing: str, words: str) -> SourceError:
        """It does not answer, or the connection was lost."""
        fix = "check that the server is up, and run again; what was committed stays"
        return SourceUnreachable(doing, self.on, found=words, fix=fix)

    def failed(self, doing: str, words: str, fix: str = "") -> SourceError:
        """Anything else that it says."""
        return SourceError(doing, self.on, found=words, fix=fix or self.failed_fix, code=self.failed_code)
