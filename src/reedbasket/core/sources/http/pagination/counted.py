"""Pages by their number, or by the number of records before them."""

from __future__ import annotations

import hashlib
from typing import ClassVar, Literal

import jmespath
from pydantic import Field, model_validator
from typing_extensions import override

from ....errors import PagesLooped
from ....kinds import PageStyle
from ....spec.fields import RecordsPath
from ....spec.pagination import Pagination
from .pages import MOST_EMPTY, Page, Pages, Step


class Counted(Pagination):
    """What the counting styles have in common."""

    counted: ClassVar[bool] = True
    last_is_known: ClassVar[bool] = True
    param: str = Field(description="the parameter that sends the number")
    size: int | None = Field(None, ge=1, le=1_000_000, description="records on a page; a shorter page is the last")
    size_param: str | None = Field(None, description="the parameter that sends `size`")
    total_pages: RecordsPath | None = Field(None, description="where a page says how many pages there are (a JMESPath)")

    @model_validator(mode="after")
    def _consistent(self) -> Counted:
        if self.size_param is not None and self.size is None:
            raise ValueError("`size_param` needs `size`, which it sends")
        return self

    @property
    @override
    def page_size(self) -> int | None:
        return self.size

    @property
    @override
    def tells_pages(self) -> bool:
        return self.total_pages is not None

    @property
    @override
    def body_paths(self) -> list[str]:
        return [self.total_pages] if self.total_pages is not None else []

    @property
    @override
    def parameter(self) -> str:
        return self.param


class PageNumberPagination(Counted):
    """By the page's number."""

    by: Literal["page_number"]
    first_page: int = Field(1, ge=0, description="the first page's number")

    @override
    def begin(self, doing: str) -> Pages:
        return CountedPages(self, self.first_page, doing, by_records=False)


class OffsetPagination(Counted):
    """By the number of records to skip."""

    by: Literal["offset"]
    first_offset: int = Field(0, ge=0, description="records to skip for the first page")

    @override
    def begin(self, doing: str) -> Pages:
        return CountedPages(self, self.first_offset, doing, by_records=True)


class CountedPages(Pages):
    """Pages by number, or by the number of records to skip.

    Without `size`, they end with an empty page. With it, they end with a page that is shorter than the fullest one so far: many sources
    send fewer records than requested, and are still read to their end. A total never ends the pages by itself, because totals are often
    wrong; it only keeps reading going over a few empty pages, and says how many pages may be requested ahead.
    """

    def __init__(self, rule: Counted, first: int, doing: str, *, by_records: bool) -> None:
        """Prepare.

        Args:
            first: the number of the first page.
            by_records: the number is of records, not of pages.
        """
        super().__init__(doing)
        self._rule = rule
        self._at = first
        self._by_records = by_records
        self._count = self._empty = self._fullest = 0
        self._before: bytes | None = None
        self._pages: int | None = None
        self._known: int | None = None
        self._done = 0

    @override
    def expected(self) -> str | None:
        if self._pages is None or self._done >= self._pages:
            return None
        return f"the source says at `{self._rule.total_pages}` that there are {self._pages} pages, but {self._done} came"

    @override
    def first(self) -> Step:
        return self._step(self._at)

    @override
    def ahead(self, count: int) -> list[Step]:
        """As many pages as the totals promise: only a constant total shows that the list does not move. Without one, pages are requested
        one by one.
        """
        if self._pages is not None:
            left = self._pages - self._done
        elif self._known is not None and self._fullest:
            left = -(-(self._known - self._count) // self._fullest)
        else:
            return []
        stride = self._fullest or 1
        return [self._step(self._at + n * (stride if self._by_records else 1)) for n in range(min(count, left))]

    @override
    def after(self, page: Page) -> Step | None:
        size = self._rule.size
        self._count += page.records
        self._done += 1
        self._empty = 0 if page.records else self._empty + 1
        if self._known is not None and page.total is not None and page.total < self._known:
            self.moved = f"there were {self._known} records at first, and {page.total} later"
        self._known = page.total if page.total is not None else self._known
        if self._rule.total_pages is not None:
            found = jmespath.search(self._rule.total_pages, page.body)
            self._pages = found if type(found) is int else self._pages
        expected = page.total is not None and self._count < page.total
        expected = expected or (self._pages is not None and self._done < self._pages)
        if page.records == 0 and (not expected or self._empty >= MOST_EMPTY):
            return None
        mark = hashlib.blake2b(page.raw, digest_size=16).digest()
        if page.records and mark == self._before:
            raise PagesLooped(
                self._doing,
                found=f"the page is the same as the one before it, as if `{self._rule.parameter}` had no effect",
                fix="check the `param` of `pagination`; what was committed stays",
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
        self._at += (held or self._fullest or 1) if self._by_records else 1
        told = self._pages is not None or page.total is not None
        return self._step(self._at, beyond=told and not expected)

    def _step(self, at: int, *, beyond: bool = False) -> Step:
        sent = {self._rule.parameter: str(at)}
        if self._rule.size is not None and self._rule.size_param is not None:
            sent[self._rule.size_param] = str(self._rule.size)
        return Step(sent, beyond=beyond)


PAGE_NUMBER = PageStyle(PageNumberPagination)
OFFSET = PageStyle(OffsetPagination)
