"""Whether a pass that has ended by its page rule has brought everything: what the source says, compared with what arrived. Pure.

There are three kinds of signs, the surest first: a total that was not reached; a flag or an address in the answer that says there is more;
a first page as full as a page can be, with nothing that ever said how to continue.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from ...spec.http import HeaderValue, HttpTable
from ...spec.pagination import NextPointer
from .link_header import next_link
from .pagination.pages import Page

# Names by which APIs say that there is more, folded: letters only, in lower case.
_FLAGS = frozenset(
    {
        "hasmore", "hasnext", "hasnextpage", "moreavailable", "moreresults", "incompleteresults", "istruncated",
        "truncated", "more",
    }
)  # fmt: skip
_ADDRESSES = frozenset(
    {
        "next", "nexturl", "nexturi", "nextlink", "nexthref", "nextpage", "nextpageurl", "nextpagelink",
        "nextpagetoken", "nexttoken", "nextcursor", "nextoffset", "continuationtoken", "continuation",
        "odatanextlink",
    }
)  # fmt: skip
_HEADERS = frozenset(
    {
        "xnext", "xnextpage", "nextpage", "xnextcursor", "xnexttoken", "xcontinuationtoken", "xpagenext", "xnexturl",
        "xnextlink",
    }
)  # fmt: skip
# Page sizes that sources choose by themselves. Smaller ones are as often just how many there are.
_ROUND = frozenset({100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000})
_DEEPEST = 3


@dataclass(frozen=True)
class CompletenessDoubt:
    """A reason to doubt that a pass is complete.

    Attributes:
        said: the source itself says so; otherwise it is only likely.
        rare: an end right here is just as likely, so no run may fail because of it.
    """

    words: str
    said: bool
    rare: bool = False


def total_in(where: str | HeaderValue | None, find: Any, envelope: Any, headers: Mapping[str, str]) -> int | None:
    """How many records the source says there are; None if it does not say, or not as a number. A header may hold it as the end of a range,
    `items 0-24/319` (RFC 9110, section 14.4).
    """
    if where is None:
        return None
    found = headers.get(where.response_header.lower()) if isinstance(where, HeaderValue) else find(envelope)
    if isinstance(found, str):
        digits = re.fullmatch(r"(?:.*/)?\s*(\d{1,15})", found.strip())
        return int(digits[1]) if digits else None
    return found if type(found) is int else None


def missing_of(total: int | None, count: int) -> str | None:
    """What is wrong with a pass that brought this many records, in words."""
    if total is None or count >= total:
        return None
    return f"the source says that there are {total} records, but {count} came"


def doubt(page: Page, rule: HttpTable, *, asked_sizes: Collection[int], fullest: int, fired: bool) -> CompletenessDoubt | None:
    """The reason to doubt the last page of a pass; None if there is none.

    Args:
        asked_sizes: whole numbers in the request, one of which may be the page size.
        fullest: the number of records on the fullest page of the pass.
        fired: the page rule led to a next page before.
    """
    following = rule.pagination
    pointer = following.pointer if following is not None else NextPointer()
    said = next(_says_more(page, pointer), None)
    if said is not None:
        return CompletenessDoubt(said, said=True)
    if rule.single_page or (page.total is not None and page.records >= page.total):
        return None
    if following is not None and (following.last_is_known or _says_end(page, pointer)):
        return None
    if fired:
        if not page.records or page.records < fullest:
            return None
        words = f"the last page is full, with {page.records} records, and does not say that it is the last"
        return CompletenessDoubt(words, said=False, rare=True)
    if page.records and (page.records in asked_sizes or (following is not None and page.records in _ROUND)):
        how = "nothing in the answer says how to request the next page" if following else "the connector names no `pagination`"
        return CompletenessDoubt(f"the only page is full, with {page.records} records, and {how}", said=False)
    return None


def _says_more(page: Page, pointer: NextPointer) -> Iterator[str]:
    for path, value in _values(page.body, "", 0):
        name = _folded(path.rpartition(".")[2])
        if value is True and name in _FLAGS:
            yield f"`{path}` is true in the last answer"
        elif name in _ADDRESSES and path != pointer.path and type(value) in (str, int) and value not in ("", 0):
            yield f"the last answer has {str(value)[:80]!r} at `{path}`, by which the next page may be asked for"
    for name, value in page.headers.items():
        if _folded(name) in _HEADERS and value.strip() and name.lower() != pointer.header:
            yield f"the last answer has {value[:80]!r} in its header {name}, by which the next page may be asked for"
    if pointer.header != "link" and next_link(page.headers.get("link", ""), "next") is not None:
        yield "the last answer has a Link header that leads to the next page"


def _says_end(page: Page, pointer: NextPointer) -> bool:
    """Whether the place where the next page would stand is there, and empty."""
    if pointer.header is not None:
        # A Link header without a word of ours is one about something else.
        return bool(page.headers.get("link")) if pointer.header == "link" else pointer.header in page.headers
    *above, name = (pointer.path or "").split(".")
    place = page.body
    for step in above:
        place = place.get(step) if isinstance(place, dict) else None
    return isinstance(place, dict) and name in place


def _values(found: Any, path: str, depth: int) -> Iterator[tuple[str, Any]]:
    """Single values in the objects around the records."""
    if not isinstance(found, dict) or depth > _DEEPEST:
        return
    for name, value in found.items():
        here = f"{path}.{name}" if path else str(name)
        if isinstance(value, dict):
            yield from _values(value, here, depth + 1)
        elif not isinstance(value, list):
            yield here, value


def _folded(name: str) -> str:
    return re.sub(r"[^a-z]", "", name.lower())
