"""Which page comes next. Pure: an answer goes in, and the next request comes out.

Every style notices a loop: a token, an address or a last key that was seen before, or a page that is identical, byte for byte, to the
previous one. Every style also has a limit, if new tokens come forever and bring nothing.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import jmespath

from ....errors import PagesLooped, RecordsNotFound

# Empty pages in a row before a source that says there is more is no longer believed. Those that filter behind the page, and say by
# tokens that they go on, may have many.
MOST_EMPTY = 3
MOST_EMPTY_LED = 100
# Pages of one pass. A thousand million records, at a thousand a page.
MOST_PAGES = 1_000_000


@dataclass(frozen=True)
class Page:
    """What one request brought.

    Attributes:
        headers: names in lower case.
        records: how many the list holds.
        last: its last object.
        total: according to the source.
        misfits: members of the list that are not records.
    """

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
    """What the next request sends in addition to what every request sends, or its whole address.

    Attributes:
        beyond: according to the source there is no such page; it is requested to make sure.
    """

    params: Mapping[str, str] = field(default_factory=dict)
    url: str | None = None
    beyond: bool = False


class Pages(ABC):
    """One pass over the pages of one table."""

    def __init__(self, doing: str) -> None:
        """Prepare.

        Args:
            doing: what is being done, for errors.
        """
        self._doing = doing
        self._seen: set[str] = set()
        self._nothing = 0
        # Why the list is known to have moved while it was read, in words.
        self.moved: str | None = None

    def first(self) -> Step:
        """What the first request sends in addition."""
        return Step()

    def ahead(self, count: int) -> list[Step]:
        """The next few steps if every page until there is full: a guess, for requesting pages early. Only `after` decides."""
        return []

    @abstractmethod
    def after(self, page: Page) -> Step | None:
        """The next step; None after the last page.

        Raises:
            PagesLooped: the pages go in a circle.
            RecordsNotFound: a value that the style needs is missing.
            UnexpectedPage: the next address is on another host.
        """

    def expected(self) -> str | None:
        """After the last page: why there should have been more according to the source, in words."""
        return None

    def _leads_on(self, page: Page, mark: str, what: str) -> None:
        """Raises PagesLooped where a mark came before, or pages come for ever and bring nothing."""
        self._nothing = 0 if page.records else self._nothing + 1
        if self._nothing >= MOST_EMPTY_LED or len(self._seen) >= MOST_PAGES:
            what_came = f"{self._nothing} empty pages in a row" if self._nothing else f"{len(self._seen)} pages"
            raise PagesLooped(
                self._doing,
                found=f"{what_came}, and each says that there is another",
                fix="check `pagination` in the connector, or ask whoever runs the source; what was committed stays",
                code="source.endless_pages",
            )
        self._once(mark, what)

    def _once(self, mark: str, what: str) -> None:
        if mark in self._seen:
            raise PagesLooped(
                self._doing,
                found=f"{what} came twice in one pass, so the pages go in a circle",
                fix="check `pagination` in the connector; what was committed stays, and a new run starts from there",
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
                found=f"the value at {path}, which says which page comes next, is {type(found).__name__}, not text",
                fix="point `pagination.at` at the token or the address",
                code="source.bad_page_token",
            )
        return str(found)
