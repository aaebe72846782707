"""Which page comes next. Pure: an answer in, what to ask for next out.

Every way of paging notices when it runs in a circle: a token, an address or a last key met before, or a page that is the same,
byte for byte, as the one before it; and each has an end, where new tokens go on for ever and bring nothing.
"""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urljoin, urlsplit

import jmespath
from typing_extensions import override

from ...errors import ForeignPage, PagesLooped, RecordsNotFound
from ...spec.http import NextPage
from .link_header import next_link

# Empty pages in a row before a source that says there is more is no longer believed. Those that filter behind the page, and say by
# tokens that they go on, may have many.
MOST_EMPTY = 3
MOST_EMPTY_LED = 100
# Pages of one pass. A thousand million records, at a thousand a page.
MOST_PAGES = 1_000_000


@dataclass(frozen=True)
class Page:
    """What one request brought. headers: names in lower case. records: how many the list held; last: its last
    object. total: as the source says. misfits: of the list, what was no record."""

    url: str
    headers: Mapping[str, str]
    body: Any
    raw: bytes
    records: int
    last: Mapping[str, Any] | None = None
    total: int | None = None
    misfits: int = 0


@dataclass(frozen=True)
class Step:
    """What the next request sends beside what each one sends, or its whole address. beyond: by what the source says there is no such
    page, which is asked for to make sure."""

    params: Mapping[str, str] = field(default_factory=dict)
    url: str | None = None
    beyond: bool = False


class Pages(ABC):
    """One pass over the pages of one table."""

    def __init__(self, rule: NextPage, doing: str) -> None:
        self._rule = rule
        self._doing = doing
        self._seen: set[str] = set()
        self._nothing = 0
        # Why the list is known to have moved while it was read, in words.
        self.moved: str | None = None

    def first(self) -> Step:
        """What the first request adds to the table's own."""
        return Step()

    def ahead(self, count: int) -> list[Step]:
        """The next few steps, if every page until there is full: a guess, good for asking early. Only `after` decides."""
        return []

    @abstractmethod
    def after(self, page: Page) -> Step | None:
        """None where it was the last. Raises PagesLooped, RecordsNotFound, ForeignPage."""

    def expected(self) -> str | None:
        """After the last page: why by what the source says there should have been more, in words."""
        return None

    def _leads_on(self, page: Page, mark: str, what: str) -> None:
        """Raises PagesLooped where a mark came before, or pages come for ever and bring nothing."""
        self._nothing = 0 if page.records else self._nothing + 1
        if self._nothing >= MOST_EMPTY_LED or len(self._seen) >= MOST_PAGES:
            what_came = f"{self._nothing} empty pages in a row" if self._nothing else f"{len(self._seen)} pages"
            raise PagesLooped(
                self._doing,
                found=f"{what_came}, and each says that there is another",
                mend="check `next` in the connector, or ask the source's keeper; what was committed stays",
                code="source.pages_without_end",
            )
        self._once(mark, what)

    def _once(self, mark: str, what: str) -> None:
        if mark in self._seen:
            raise PagesLooped(
                self._doing,
                found=f"{what} came twice in one pass, so the pages run in a circle",
                mend="check `next` in the connector; what was committed stays, and a new run starts from there",
            )
        self._seen.add(mark)

    def _text_at(self, path: str, body: Any) -> str | None:
        """The token or address at a JMESPath, None for none."""
        found = jmespath.search(path, body)
        if found is None or found == "":
            return None
        if isinstance(found, bool) or not isinstance(found, str | int):
            raise RecordsNotFound(
                self._doing,
                found=f"what says which page comes next, at {path}, is {type(found).__name__}, not text",
                mend="point `next` at the token or the address",
                code="source.token_unreadable",
            )
        return str(found)


class TokenPages(Pages):
    """A token in the body or in a header, sent back."""

    @override
    def after(self, page: Page) -> Step | None:
        assert self._rule.send_as is not None
        if self._rule.token_header is not None:
            token = page.headers.get(self._rule.token_header.lower()) or None
        else:
            assert self._rule.token is not None
            token = self._text_at(self._rule.token, page.body)
        if token is None:
            return None
        self._leads_on(page, token, f"the token {token!r} for the next page")
        return Step({self._rule.send_as: token})


class AddressPages(Pages):
    """The next page's address, in the body, the Link header (RFC 8288) or another; relative ones count from the page's own."""

    @override
    def after(self, page: Page) -> Step | None:
        if self._rule.link is not None:
            found = next_link(page.headers.get("link", ""), self._rule.link)
        elif self._rule.url_header is not None:
            found = page.headers.get(self._rule.url_header.lower(), "").strip() or None
        else:
            assert self._rule.url is not None
            found = self._text_at(self._rule.url, page.body)
        if found is None:
            return None
        address = urljoin(page.url, found)
        here, there = urlsplit(page.url), urlsplit(address)
        if (here.scheme, here.netloc) != (there.scheme, there.netloc):
            raise ForeignPage(
                self._doing,
                found=f"the next page is at {there.scheme}://{there.netloc}, and this one came from {here.scheme}://{here.netloc}",
                mend="credentials go to one host only; if the other one is meant, make it the source's address",
            )
        self._leads_on(page, address, "the next page's address")
        return Step(url=address)


class LastKeyPages(Pages):
    """The last record's value of one field, sent back: the page after it. Ends with an empty page."""

    @override
    def after(self, page: Page) -> Step | None:
        assert self._rule.last is not None and self._rule.send_as is not None
        if page.last is None:
            return None
        value: Any = page.last
        for step in self._rule.last.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is None or isinstance(value, dict | list):
            raise RecordsNotFound(
                self._doing,
                found=f"the last record of the page has no value at `{self._rule.last}`, by which the next page is asked for",
                mend="name a field in `next.last` that every record has",
                code="source.token_unreadable",
            )
        self._once(str(value), f"the last record's `{self._rule.last}`, {value!r},")
        return Step({self._rule.send_as: str(value)})


class CountedPages(Pages):
    """Pages by number, or by how many records to skip.

    Without `size` they end with an empty page. With it they end with a page shorter than the fullest one so far: a source that
    gives fewer than asked for, as many do, is then read to its end all the same. What it says of its total never ends the pages
    by itself, for totals lie; it only keeps them going over a few empty ones, and says how many pages may be asked for early.
    """

    def __init__(self, rule: NextPage, doing: str) -> None:
        super().__init__(rule, doing)
        self._at = rule.start if rule.start is not None else (0 if rule.offset else 1)
        self._count = self._empty = self._fullest = 0
        self._before: bytes | None = None
        self._pages: int | None = None
        self._known: int | None = None
        self._done = 0

    @override
    def expected(self) -> str | None:
        if self._pages is None or self._done >= self._pages:
            return None
        return f"the source says at `{self._rule.pages}` that there are {self._pages} pages, and {self._done} came"

    @override
    def first(self) -> Step:
        return self._step(self._at)

    @override
    def ahead(self, count: int) -> list[Step]:
        """As many as the totals speak of, for only a total that stays tells that the list does not move meanwhile: without one, pages
        are asked for one by one."""
        if self._pages is not None:
            left = self._pages - self._done
        elif self._known is not None and self._fullest:
            left = -(-(self._known - self._count) // self._fullest)
        else:
            return []
        stride = self._fullest or 1
        return [self._step(self._at + n * (stride if self._rule.offset else 1)) for n in range(min(count, left))]

    @override
    def after(self, page: Page) -> Step | None:
        size = self._rule.size
        self._count += page.records
        self._done += 1
        self._empty = 0 if page.records else self._empty + 1
        if self._known is not None and page.total is not None and page.total < self._known:
            self.moved = f"there were {self._known} records at first, and {page.total} later"
        self._known = page.total if page.total is not None else self._known
        if self._rule.pages is not None:
            found = jmespath.search(self._rule.pages, page.body)
            self._pages = found if type(found) is int else self._pages
        expected = page.total is not None and self._count < page.total
        expected = expected or (self._pages is not None and self._done < self._pages)
        if page.records == 0 and (not expected or self._empty >= MOST_EMPTY):
            return None
        mark = hashlib.blake2b(page.raw, digest_size=16).digest()
        if page.records and mark == self._before:
            raise PagesLooped(
                self._doing,
                found=f"the page is the same as the one before it, as if `{self._rule.offset or self._rule.page}` had no effect",
                mend="check the parameter's name in `next`; what was committed stays",
            )
        if size is not None and page.records and not expected:
            all_there = page.total is not None and page.records < size
            if all_there or page.records < self._fullest:
                return None
        self._before, self._fullest = mark, max(self._fullest, page.records)
        # A page that is empty in the middle is stepped over by what it should have held. What is no record, and makes a page longer than
        # was asked for, has no place in the source's own count.
        held = page.records
        if size is not None and held > size:
            held = max(size, held - page.misfits)
        self._at += (held or self._fullest or 1) if self._rule.offset else 1
        told = self._pages is not None or page.total is not None
        return self._step(self._at, beyond=told and not expected)

    def _step(self, at: int, *, beyond: bool = False) -> Step:
        sent = {self._rule.offset or self._rule.page or "": str(at)}
        if self._rule.size is not None and self._rule.size_as is not None:
            sent[self._rule.size_as] = str(self._rule.size)
        return Step(sent, beyond=beyond)


def pages_for(rule: NextPage, doing: str) -> Pages:
    """How the pages of a table go on, by its rule."""
    if rule.token is not None or rule.token_header is not None:
        return TokenPages(rule, doing)
    if rule.last is not None:
        return LastKeyPages(rule, doing)
    if rule.counted:
        return CountedPages(rule, doing)
    return AddressPages(rule, doing)


def pick_records(
    find: Callable[[Any], Any], path: str, body: Any, doing: str, *, lone: bool = False, empty: bool = False
) -> tuple[list[dict[str, Any]], list[Any]]:
    """(objects, other members) of the list at a JMESPath. lone: one object stands for a list of it, and nothing for an empty one,
    as in XML, where the outermost element says that the place is right. empty: nothing at the place stands for an empty list. Raises
    RecordsNotFound where no list stands there."""
    found = find(body)
    if empty and found is None:
        found = []
    if lone and isinstance(found, dict):
        found = [found]
    if lone and found is None and isinstance(body, dict) and path.split(".")[0].strip('"') in body:
        found = []
    if not isinstance(found, list):
        what = "nothing" if found is None else f"a {_json_kind(found)}"
        has = f"; the body is an object with {', '.join(list(body)[:12])}" if isinstance(body, dict) else ""
        raise RecordsNotFound(
            doing,
            found=f"{what} at `{path}` where a list of records must be{has}",
            mend="point `records` at the list (a JMESPath)"
            + ("; if the source leaves it out where there are none, say `missing_means_empty: true`" if found is None else ""),
        )
    return objects_of(found)


def objects_of(found: list[Any]) -> tuple[list[dict[str, Any]], list[Any]]:
    """(objects, other members) of a list."""
    # set(map(type, ...)) costs 15 ns a record; a loop with isinstance four times that.
    if set(map(type, found)) <= {dict}:
        return found, []
    return [r for r in found if type(r) is dict], [r for r in found if type(r) is not dict]


def _json_kind(value: Any) -> str:
    kinds = {dict: "object", str: "text", bool: "true or false", int: "number", float: "number"}
    return kinds.get(type(value), type(value).__name__)
