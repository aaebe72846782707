"""One mistake in a definition: where it stands, what was found, what is allowed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from difflib import get_close_matches
from typing import Any


@dataclass(frozen=True)
class Mistake:
    """file, line and column (from 1), the dotted path, a sentence, and a stable code `definition.*`."""

    file: str
    line: int
    column: int
    path: str
    message: str
    code: str

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}  {self.path}\n  {self.message}  [{self.code}]"


def nearest(word: str, known: Iterable[str]) -> str:
    """'; did you mean "x"?' where a known word is near, else the words allowed, else nothing."""
    words = [str(k) for k in known]
    close = get_close_matches(word, words, n=1, cutoff=0.6)
    if close:
        return f'; did you mean "{close[0]}"?'
    if words:
        return f"; allowed: {', '.join(sorted(words))}"
    return ""
