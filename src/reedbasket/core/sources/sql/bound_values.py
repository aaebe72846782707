"""Names of bound values in SQL, `:cursor_from`, outside of texts, quoted names and comments."""

from __future__ import annotations

import re
from collections.abc import Callable

# What may hold a colon that is none of ours: texts (also E'…' with backslashes, and $tag$…$tag$), quoted names, comments, casts.
_TOKEN = re.compile(
    r"""(?P<other>
          [eE]'(?:[^'\\]|\\.|'')*' | '(?:[^']|'')*' | "(?:[^"]|"")*" | `(?:[^`]|``)*` | \[[^\]]*\]
        | \$(?P<tag>[A-Za-z_]*)\$.*?\$(?P=tag)\$
        | --[^\n]* | /\*.*?\*/ | ::
        ) | :(?P<name>[A-Za-z_][A-Za-z0-9_]*)""",
    re.VERBOSE | re.DOTALL,
)


def names_in(text: str) -> list[str]:
    """Each name once, in order."""
    return list(dict.fromkeys(found["name"] for found in _TOKEN.finditer(text) if found["name"]))


def replaced(text: str, value: Callable[[str], str]) -> str:
    """The text, with every name replaced by what `value` returns for it."""
    return _TOKEN.sub(lambda found: value(found["name"]) if found["name"] else found[0], text)
