"""What is written to a terminal is text: sources, file names and people elsewhere do not get to steer it."""

from __future__ import annotations

import re
from typing import Any, TextIO

# All but line ends, tabs and our own few colours (ECMA-48, 8.3.117): controls of the terminal, and marks that turn the direction of text.
_STEERING = re.compile("\x1b\\[(?:[01]|3[1-6])m|[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def as_text(text: str) -> str:
    """The same without what would steer a terminal."""
    return _STEERING.sub(lambda found: found[0] if len(found[0]) > 1 else "\ufffd", text)


def beneath(stream: TextIO) -> TextIO:
    """For what draws, and sees itself that the texts in it are texts."""
    found: TextIO = getattr(stream, "beneath", stream)
    return found


class Terminal:
    """A stream whose writes hold no control characters but our own."""

    def __init__(self, stream: TextIO) -> None:
        self.beneath = stream

    def write(self, text: str) -> int:
        """As a file's, without control characters of others."""
        return self.beneath.write(as_text(text))

    def writelines(self, lines: Any) -> None:
        """As a file's, without control characters of others."""
        for line in lines:
            self.write(line)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.beneath, name)
