"""`{name}` and `{name:format}` in definitions, as in Python's format strings; names only, no code, no attribute access.

A name is dotted (`cursor.from`, `settings.url`) and looked up whole, in one flat mapping. `{{` and `}}` are literal braces.
"""

from __future__ import annotations

import re
import string
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from .times import format_time

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*")


def parse(text: str) -> list[tuple[str, str | None, str]]:
    """[(literal text before, name or None, format)]. Raises ValueError saying what is wrong."""
    parts: list[tuple[str, str | None, str]] = []
    try:
        pieces = list(string.Formatter().parse(text))
    except ValueError as error:
        raise ValueError(f"not a template: {error}; write {{name}}, or {{{{ and }}}} for literal braces") from None
    for literal, name, form, conversion in pieces:
        if name is not None:
            if conversion or not _NAME.fullmatch(name):
                raise ValueError(f"a template holds plain dotted names only, found {{{name}}}")
            if form and "{" in form:
                raise ValueError(f"a format may not hold a name itself: {{{name}:{form}}}")
        parts.append((literal, name, form or ""))
    return parts


def names(text: str) -> list[str]:
    """The names a template uses, in order."""
    return [name for _, name, _ in parse(text) if name is not None]


def fill(text: str, values: Mapping[str, Any]) -> str | None:
    """The text with its names filled in; None where a name used has no value yet.

    Times are written in RFC 3339 unless the format says otherwise. Raises KeyError for a name that is not known at all:
    `apply` has checked them, so this is a defect of ours.
    """
    out: list[str] = []
    for literal, name, form in parse(text):
        out.append(literal)
        if name is None:
            continue
        value = values[name]
        if value is None:
            return None
        if isinstance(value, datetime) and not form:
            out.append(format_time(value))
        elif isinstance(value, bool):
            out.append("true" if value else "false")
        else:
            out.append(format(value, form))
    return "".join(out)
