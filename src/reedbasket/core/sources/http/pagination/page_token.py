"""Pages by a token from the body or from a header."""

from __future__ import annotations

from typing import Literal

from pydantic import Field
from typing_extensions import override

from ....kinds import PageStyle
from ....spec.pagination import Pagination, PointedAt
from .pages import Page, Pages, Step


class PageTokenPagination(PointedAt, Pagination):
    """A token in the answer's body or header, sent back as `param`."""

    by: Literal["page_token"]
    param: str = Field(description="the parameter that sends the token")

    @override
    def begin(self, doing: str) -> Pages:
        return TokenPages(self, doing)


class TokenPages(Pages):
    """Sends back the token from the answer's body or header."""

    def __init__(self, rule: PageTokenPagination, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        at = self._rule.pointer
        if at.header is not None:
            token = page.headers.get(at.header) or None
        else:
            assert at.path is not None
            token = self._text_at(at.path, page.body)
        if token is None:
            return None
        self._leads_on(page, token, f"the token {token!r} for the next page")
        return Step({self._rule.param: token})


KIND = PageStyle(PageTokenPagination)
