"""A large JSON body, one part at a time: parsed as a whole, 50 MB of it would take several hundred.

Only the tokens that form the structure are looked at (strings, brackets, commas). The records between them are parsed like any other body,
about half a megabyte at once. Measured: 52 MB in 6.5 s, parsing included.
"""

from __future__ import annotations

import re

# Smaller bodies are parsed whole, as fast as can be.
LARGE_BYTES = 8 * 1024 * 1024
_PART_BYTES = 512 * 1024
_TOKEN = re.compile(rb'"(?:[^"\\]|\\.)*"|[{}\[\],]', re.DOTALL)
_PLAIN_PATH = re.compile(r"@|[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*")


def can_split(path: str) -> bool:
    """Whether a JMESPath consists of plain names, like `data.items`, or is the body itself."""
    return _PLAIN_PATH.fullmatch(path) is not None


def split(raw: bytes, path: str) -> tuple[bytes, list[tuple[int, int]]]:
    """(the body with the list at the path emptied, [(start, end) of parts of that list's members, commas included]).

    Raises:
        ValueError: the body ends too early, or there is no list at the path.
    """
    found = _find_list(raw, [] if path == "@" else path.split("."))
    if found is None:
        raise ValueError(f"no list at {path}")
    start = found + 1
    parts: list[tuple[int, int]] = []
    depth, begin = 0, start
    for token in _TOKEN.finditer(raw, start):
        mark = raw[token.start()]
        if mark in b"{[":
            depth += 1
        elif mark in b"}]":
            if depth == 0:
                if raw[begin : token.start()].strip():
                    parts.append((begin, token.start()))
                return raw[:start] + raw[token.start() :], parts
            depth -= 1
        elif mark == 44 and depth == 0 and token.start() - begin >= _PART_BYTES:  # a comma between two members
            parts.append((begin, token.start()))
            begin = token.end()
    raise ValueError(f"it ends after {len(raw)} bytes, in the middle of a list")


def _find_list(raw: bytes, names: list[str]) -> int | None:
    """Where the list with these names begins. level: open containers; the first `matched` + 1 of them are on the path."""
    level, matched = 0, 0
    key: bytes | None = None  # the string before a container: only a name stands there without a comma between
    for token in _TOKEN.finditer(raw):
        mark = raw[token.start()]
        if mark == 34:
            key = token[0][1:-1]
            continue
        if mark in b"{[":
            if level == 0:
                on_way = True
            else:
                on_way = matched == level - 1 < len(names) and key == names[level - 1].encode()
                matched = level if on_way else matched
            if on_way and mark == 91:
                return token.start() if level == len(names) else None
            level += 1
        elif mark in b"}]":
            level -= 1
            matched = min(matched, max(level - 1, 0))
        key = None
    return None
