"""A toy style of pages: each answer says in a header how many pages are left. One module, known by an entry point alone."""

from __future__ import annotations

from typing import Literal

from pydantic import Field
from typing_extensions import override

from reedbasket.core.kinds import PageStyle
from reedbasket.core.sources.http.pagination.pages import Page, Pages, Step
from reedbasket.core.spec.pagination import NextPointer, Pagination


class LeftPagination(Pagination):
    """header: that says it."""

    by: Literal["pages_left"]
    header: str = Field(min_length=1)
    param: str = Field(description="the parameter that sends how many are left")

    @property
    @override
    def pointer(self) -> NextPointer:
        return NextPointer(header=self.header.lower())

    @override
    def begin(self, doing: str) -> Pages:
        return LeftPages(self, doing)


class LeftPages(Pages):
    """See `pagination.pages.Pages`."""

    def __init__(self, rule: LeftPagination, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        left = page.headers.get(self._rule.header.lower(), "0")
        if left == "0":
            return None
        self._leads_on(page, left, f"{left} pages left")
        return Step({self._rule.param: left})


KIND = PageStyle(LeftPagination)
