"""`{name}` and `{name:format}` in definitions, like Python's format strings; names only, no code, no attribute access.

A name is dotted (`cursor.from`, `settings.url`) and looked up as a whole in one flat mapping. `{{` and `}}` are literal braces.
"""

from __future__ import annotations

import re
import string
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any

from .times import write_time

# Whatever is written so stays short: no width of three digits, and none within a time's letters.
_FORM = re.compile(r"epoch\w{0,6}|0?[0-9]{1,2}d?|\.[0-9]{1,2}f|(?=.{1,80}$)(?:[^%]|%[A-Za-z%])*%[A-Za-z](?:[^%]|%[A-Za-z%])*")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*")


def parse(text: str) -> list[tuple[str, str | None, str]]:
    """[(literal text before, name or None, format)].

    Raises:
        ValueError: with what is wrong.
    """
    parts: list[tuple[str, str | None, str]] = []
    try:
        pieces = list(string.Formatter().parse(text))
    except ValueError as error:
        raise ValueError(f"not a template: {error}; write {{name}}, or {{{{ and }}}} for literal braces") from None
    for literal, name, form, conversion in pieces:
        if name is not None:
            if conversion or not _NAME.fullmatch(name):
                raise ValueError(f"a template may contain only dotted names, found {{{name}}}")
            if form and "{" in form:
                raise ValueError(f"a format may not contain a name: {{{name}:{form}}}")
            if form and not _FORM.fullmatch(form):
                raise ValueError(f"{{{name}:{form[:40]}}}: a format is epoch, epoch_ms, strftime's letters, or a width like 05")
        parts.append((literal, name, form or ""))
    return parts


def names(text: str) -> list[str]:
    """The names that a template uses, in order."""
    return [name for _, name, _ in parse(text) if name is not None]


def fill(text: str, values: Mapping[str, Any]) -> str | None:
    """The text with its names filled in; None if a name has no value yet.

    Times are written in RFC 3339 unless the format says otherwise: strftime's letters, epoch or epoch_ms.

    Raises:
        KeyError: a name is unknown, which is a bug: `apply` has checked them.
    """
    out: list[str] = []
    for literal, name, form in parse(text):
        out.append(literal)
        if name is None:
            continue
        value = values[name]
        if value is None:
            return None
        if isinstance(value, datetime):
            out.append(write_time(value, form))
        elif isinstance(value, bool):
            out.append("true" if value else "false")
        else:
            out.append(format(value, form))
    return "".join(out)


def value_of(text: str, values: Mapping[str, Any]) -> Any:
    """Like `fill`, but a text that is a single name without a format becomes that name's value; times stay text."""
    parts = parse(text)
    if len(parts) == 1 and parts[0][0] == "" and parts[0][1] is not None and not parts[0][2]:
        value = values[parts[0][1]]
        return write_time(value, "") if isinstance(value, datetime) else value
    return fill(text, values)


def fill_all(value: Any, values: Mapping[str, Any]) -> Any:
    """Fill in the texts anywhere inside a JSON value; members of objects whose names have no value yet are left out."""
    if isinstance(value, str):
        return value_of(value, values)
    if isinstance(value, dict):
        filled = {key: fill_all(item, values) for key, item in value.items()}
        return {key: item for key, item in filled.items() if item is not None or value[key] is None}
    if isinstance(value, list):
        return [fill_all(item, values) for item in value]
    return value


def texts_in(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """(path, text) of every text inside a JSON value."""
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict):
        for key, item in value.items():
            yield from texts_in(item, (*path, key))
    elif isinstance(value, list):
        for place, item in enumerate(value):
            yield from texts_in(item, (*path, place))
