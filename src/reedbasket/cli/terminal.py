"""Whatever is written to a terminal is text: sources, file names and other people cannot control it."""

from __future__ import annotations

import re
from typing import Any, TextIO

# All but line ends, tabs and our own few colours (ECMA-48, 8.3.117): controls of the terminal, and marks that turn the direction of text.
_STEERING = re.compile("\x1b\\[(?:[01]|3[1-6])m|[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def as_text(text: str) -> str:
    """The text without control characters."""
    return _STEERING.sub(lambda found: found[0] if len(found[0]) > 1 else "\ufffd", text)


def beneath(stream: TextIO) -> TextIO:
    """The underlying stream, for code that draws and takes care itself that texts are only texts."""
    found: TextIO = getattr(stream, "beneath", stream)
    return found


class Terminal:
    """A stream that writes no control characters except our own."""

    def __init__(self, stream: TextIO) -> None:
        self.beneath = stream

    def write(self, text: str) -> int:
        """Like a file's, without control characters of others."""
        return self.beneath.write(as_text(text))

    def writelines(self, lines: Any) -> None:
        """Like a file's, without control characters of others."""
        for line in lines:
            self.write(line)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.beneath, name)
