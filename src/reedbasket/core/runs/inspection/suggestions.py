"""What an answer suggests about an API: where its records are, how it is paginated, and what could be key and cursor. Pure guesses:
whoever writes the connector decides.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qs, urlsplit

# Below this deep nothing is looked for: records that lie deeper are named by hand.
_DEEPEST = 5
_LINK_NAMES = re.compile(r"(next|more|following)(_?(url|uri|link|href|page))?$|^(url|uri|link|href)$", re.I)
_TOKEN_NAMES = re.compile(r"(token|cursor|continu|after|bookmark|marker|next)", re.I)
_TOTAL_NAMES = re.compile(r"(^|_|\b)(total|count|all|size|hits|found)", re.I)
_PAGES_NAMES = re.compile(r"^(total_?pages|page_?count|pages|last_?page|num_?pages)$", re.I)
_PAGE_NAMES = ("page", "page_number", "page_no", "p")
_SIZE_NAMES = ("per_page", "page_size", "pagesize", "limit", "size", "take", "top", "max")
_OFFSET_NAMES = ("offset", "skip", "start", "from")
_CHANGED = re.compile(r"(updated|modified|changed|last_?change|touched)", re.I)
_MADE = re.compile(r"(created|inserted|added|recorded|_at$|_on$|time|date)", re.I)


@dataclass(frozen=True)
class Choice:
    """One suggestion.

    Attributes:
        say: as it is written in a definition.
        why: the reason, in words.
    """

    say: Any
    why: str


@dataclass
class Suggestion:
    """Suggestions, the most likely first; empty where there are none."""

    records: list[Choice] = field(default_factory=list)
    total: list[Choice] = field(default_factory=list)
    pagination: list[Choice] = field(default_factory=list)
    key: list[Choice] = field(default_factory=list)
    cursor: list[Choice] = field(default_factory=list)


def suggest_from_answer(body: Any, headers: Mapping[str, str], url: str, records: str | None) -> Suggestion:
    """Suggestions from one answer.

    Args:
        body: the whole answer, parsed.
        headers: by name, in lower case.
        url: the URL that was requested.
        records: the path of the records, if it is known.
    """
    found = Suggestion()
    lists = sorted(_lists(body), key=lambda one: -len(one[1]))
    found.records = [
        Choice(path, f"{len(items)} objects with {', '.join(list(items[0])[:5])}" if items else "an empty list")
        for path, items in lists
    ]
    here = records if records is not None else (lists[0][0] if lists else "")
    count = next((len(items) for path, items in lists if path == here), 0)
    plain = list(_plain(body, exclude=here))
    found.total = [
        Choice(path, f"says {value}, and {count} came")
        for path, name, value in plain
        if type(value) is int and value >= max(count, 1) and _TOTAL_NAMES.search(name) and not _PAGES_NAMES.match(name)
    ]
    found.pagination = list(_pagination(plain, headers, url, count, found.total))
    return found


def suggest_from_columns(columns: Sequence[tuple[str, str, Sequence[Any]]]) -> tuple[list[Choice], list[Choice]]:
    """(keys, cursors), from the values of some records.

    Args:
        columns: (name, type, values).
    """
    keys, cursors = [], []
    for name, kind, values in columns:
        present = [value for value in values if value is not None]
        if not present or len(present) < len(values):
            continue
        different = len(set(map(repr, present)))
        if kind in ("int64", "text", "uuid") and different == len(values):
            keys.append(Choice(name, f"{different} records, {different} values"))
        if kind in ("timestamp", "date"):
            span = f"from {min(present)} to {max(present)}"
            cursors.append((0 if _CHANGED.search(name) else 1 if _MADE.search(name) else 2, Choice({"column": name}, span)))
        elif kind == "int64" and list(present) == sorted(present) and different > 1:
            cursors.append((3, Choice({"column": name, "type": "number"}, "a number that only increases in this sample")))
    keys.sort(key=lambda one: not re.search(r"(^|_)(id|key|code|no|number|uuid)$", one.say, re.I))
    return keys[:5], [one for _, one in sorted(cursors, key=lambda ranked: ranked[0])][:5]


def _lists(value: Any, path: str = "", deep: int = 0) -> Iterator[tuple[str, list[dict[str, Any]]]]:
    """(path, objects) of every list of objects."""
    if isinstance(value, list):
        if value and all(isinstance(item, dict) for item in value):
            yield path, value
        elif not value and path:
            yield path, []
    elif isinstance(value, dict) and deep < _DEEPEST:
        for name, below in value.items():
            yield from _lists(below, _joined(path, name), deep + 1)


def _plain(value: Any, exclude: str, path: str = "", deep: int = 0) -> Iterator[tuple[str, str, Any]]:
    """(path, name, value) of every single value outside of lists and of what is `exclude`."""
    if isinstance(value, dict) and deep < _DEEPEST:
        for name, below in value.items():
            at = _joined(path, name)
            if isinstance(below, dict):
                yield from _plain(below, exclude, at, deep + 1)
            elif not isinstance(below, list) and at != exclude:
                yield at, name, below


def _pagination(
    plain: Sequence[tuple[str, str, Any]], headers: Mapping[str, str], url: str, count: int, total: Sequence[Choice]
) -> Iterator[Choice]:
    sent = {name: values[-1] for name, values in parse_qs(urlsplit(url).query).items()}
    if re.search(r'rel="?next"?', headers.get("link", "")):
        yield Choice({"by": "link_header"}, "the Link header leads to the next page")
    for path, name, value in plain:
        if isinstance(value, str) and re.match(r"(https?://|/|\?)", value) and _LINK_NAMES.search(name):
            yield Choice({"by": "next_url", "at": path}, f"{path} is an address: {value[:60]}")
    for path, name, value in plain:
        text = isinstance(value, str) and value and not re.match(r"(https?://|/|\?|\d{4}-)", value)
        if text and _TOKEN_NAMES.search(name):
            yield Choice(
                {"by": "page_token", "at": path, "param": _param_for(name)}, f"{path} looks like a token: {str(value)[:40]}"
            )
    for name, value in headers.items():
        if re.search(r"next|continu", name) and name != "link" and value:
            say = {"by": "page_token", "response_header": name.title(), "param": _param_for(name)}
            yield Choice(say, f"the header {name.title()}: {value[:40]}")
    size = _size(plain, sent, count)
    pages = next((path for path, name, value in plain if _PAGES_NAMES.match(name) and type(value) is int), None)
    counts = next((name for name in _PAGE_NAMES if name in sent), None)
    numbered = next((name for _, name, value in plain if name.lower() in _PAGE_NAMES and type(value) is int), None)
    if pages or counts or numbered:
        say = {"by": "page_number", "param": counts or numbered or "page", **({"total_pages": pages} if pages else {}), **size}
        yield Choice(say, f"{pages} says how many pages there are" if pages else "it contains the page's number")
    skips = next((name for name in _OFFSET_NAMES if name in sent), None)
    skipped = next((name for _, name, value in plain if name.lower() in _OFFSET_NAMES and type(value) is int), None)
    more = bool(total) and any(value > count for path, _, value in plain if path == total[0].say and type(value) is int)
    if skips or skipped or (more and not pages):
        yield Choice({"by": "offset", "param": skips or skipped or "offset", **(size or {"size": max(count, 1), "size_param": "limit"})}, (
            "it contains the number of skipped records" if skips or skipped
            else "there are more records than on this page; perhaps by an offset"
        ))  # fmt: skip


def _size(plain: Sequence[tuple[str, str, Any]], sent: Mapping[str, str], count: int) -> dict[str, Any]:
    for name, value in sent.items():
        if name.lower() in _SIZE_NAMES and value.isdigit():
            return {"size": int(value), "size_param": name}
    for _, name, value in plain:
        if name.lower() in _SIZE_NAMES and type(value) is int and value >= count > 0:
            return {"size": value, "size_param": name}
    return {}


def _param_for(name: str) -> str:
    """The parameter that a token is probably sent back in, from the name it came under: next_page_token as page_token, next as after."""
    short = re.sub(r"^(x[-_])?next[-_]?", "", name, flags=re.I).replace("-", "_").lower()
    return short or "after"


def _joined(path: str, name: str) -> str:
    """As JMESPath has it."""
    part = name if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) else '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'
    return f"{path}.{part}" if path else part
