"""Patterns of paths: globs, with names for parts of them that become columns. Pure.

`*` is any text within one folder, `**` any folders, `?` one character, `[abc]` one of these. `<landing>` is a part of a name that becomes
a text column, `<hour:%Y%m%d%H>` becomes a time, in strftime's letters, and `<part:d>` an integer.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any

from ..records.column_types import Kind

_LETTERS = {
    "Y": r"\d{4}",
    "m": r"\d{2}",
    "d": r"\d{2}",
    "H": r"\d{2}",
    "M": r"\d{2}",
    "S": r"\d{2}",
    "y": r"\d{2}",
    "j": r"\d{3}",
}
_CLOCK = frozenset("HMS")
_NAMED = re.compile(r"<([a-z_][a-z0-9_]*)(?::([^<>]*))?>")
_MOST_WILD, _MOST_DEEP = 3, 2
_WILD = frozenset("*?[<")


@dataclass(frozen=True)
class PatternPart:
    """A part of a pattern that becomes a column; form: strftime's letters, `d`, or nothing for text."""

    name: str
    form: str
    kind: Kind


class Pattern:
    """One pattern.

    Attributes:
        text: as written.
        under: the folder below which everything is that matches; '' for the top.
        names: of its columns.
    """

    def __init__(self, text: str) -> None:
        """Parse a pattern.

        Raises:
            ValueError: it is not valid.
        """
        self.text = text
        self.names: dict[str, PatternPart] = {}
        path = text.removeprefix("./")
        if path.startswith("/") or not path or ".." in path.split("/"):
            raise ValueError("a pattern is below the source's own folder: it does not begin with /, and has no ..")
        _require_few_wild(path)
        fixed = path.split("/")[:-1]
        wild = next((place for place, part in enumerate(fixed) if _WILD & set(part)), len(fixed))
        self.under = "/".join(fixed[:wild])
        self._regex = re.compile(self._translate(path), re.DOTALL)

    @property
    def plain(self) -> bool:
        """Whether it is a single path."""
        return not _WILD & set(self.text)

    def matches(self, path: str) -> bool:
        """Whether a path matches, by its characters alone; `values` tells whether <day:%Y%m%d> is really a day."""
        return self._regex.fullmatch(path) is not None

    def values(self, path: str) -> dict[str, Any] | None:
        """The values of its names; None if the path does not match, or a part is not such a value."""
        found = self._regex.fullmatch(path)
        if found is None:
            return None
        values: dict[str, Any] = {}
        for name, named in self.names.items():
            try:
                values[name] = _value(named, found[name])
            except (ValueError, OverflowError):
                return None
        return values

    def _translate(self, path: str) -> str:
        made, place = "", 0
        while place < len(path):
            character = path[place]
            # Names that begin with a dot are hidden ones, a file still being written often: only a written dot takes them.
            if character in "*?<" and (place == 0 or path[place - 1] == "/"):
                made += r"(?!\.)"
            named = _NAMED.match(path, place)
            if named:
                made += self._name(named[1], named[2] or "")
                place = named.end()
            elif path.startswith("**/", place):
                made, place = made.removesuffix(r"(?!\.)") + r"(?:(?!\.)[^/]+/)*", place + 3
            elif character == "*":
                made, place = (
                    made + ("[^/]*" if path[place : place + 2] != "**" else ".*"),
                    place + 1 + (path[place : place + 2] == "**"),
                )
            elif character == "?":
                made, place = made + "[^/]", place + 1
            elif character == "[" and (end := path.find("]", place + 2)) > 0:
                inside = path[place + 1 : end].replace("\\", "\\\\").replace("[", "\\[")
                inside = "^" + inside[1:] if inside.startswith("!") else inside
                made, place = f"{made}(?!/)[{inside}]", end + 1
            elif character in "<>{}":
                raise ValueError(f"{path[place : place + 20]!r} is not a name; write <landing>, <hour:%Y%m%d%H> or <part:d>")
            else:
                made, place = made + re.escape(character), place + 1
        return made

    def _name(self, name: str, form: str) -> str:
        if name in self.names:
            return f"(?P={name})"
        if form == "d":
            self.names[name] = PatternPart(name, form, "int64")
            return rf"(?P<{name}>\d{{1,18}})"
        if not form:
            self.names[name] = PatternPart(name, form, "text")
            return f"(?P<{name}>[^/]+?)"
        letters = re.findall(r"%(.)", form)
        unknown = [letter for letter in letters if letter not in _LETTERS]
        if unknown or not letters:
            known = ", ".join(f"%{letter}" for letter in _LETTERS)
            raise ValueError(f"<{name}:{form}>: a format is d, for integers, or consists of {known}")
        self.names[name] = PatternPart(name, form, "timestamp" if _CLOCK & set(letters) else "date")
        inside = "".join(
            _LETTERS[part[1]] if part.startswith("%") else re.escape(part) for part in re.findall(r"%.|[^%]+", form)
        )
        return f"(?P<{name}>{inside})"


def _require_few_wild(path: str) -> None:
    """Wildcards are tried at every length, against names that others chose: four of them, in a name of 255 letters, take half a minute."""
    if path.count("**") > _MOST_DEEP:
        raise ValueError(f"a pattern has at most {_MOST_DEEP} `**`")
    for part in path.split("/"):
        if part.count("*") - 2 * part.count("**") + sum(1 for found in _NAMED.finditer(part) if not found[2]) > _MOST_WILD:
            raise ValueError(f"a pattern has at most {_MOST_WILD} `*` and text names between two /")


def _value(named: PatternPart, text: str) -> Any:
    if named.kind == "int64":
        return int(text)
    if named.kind == "text":
        return text
    moment = datetime.strptime(text, named.form).replace(tzinfo=UTC)
    return moment if named.kind == "timestamp" else date(moment.year, moment.month, moment.day)
