"""Pages by the address of the next one."""

from __future__ import annotations

from typing import Literal
from urllib.parse import urljoin, urlsplit

from pydantic import Field, model_validator
from typing_extensions import override

from ....errors import UnexpectedPage
from ....kinds import PageStyle
from ....spec.pagination import NextPointer, Pagination, PointedAt
from ..link_header import next_link
from .pages import Page, Pages, Step


class ByAddress(Pagination):
    """The next page is a whole address; nothing else is sent."""

    @model_validator(mode="after")
    def _whole(self) -> ByAddress:
        if self.send_in != "query":
            raise ValueError(f"{self.by} sends a whole address, so `in` does not apply")
        return self

    @override
    def begin(self, doing: str) -> Pages:
        return AddressPages(self, doing)


class LinkHeaderPagination(ByAddress):
    """The address in the Link header (RFC 8288)."""

    by: Literal["link_header"]
    rel: str = Field("next", min_length=1, description="the relation of the next page")

    @property
    @override
    def pointer(self) -> NextPointer:
        return NextPointer(header="link")


class NextUrlPagination(PointedAt, ByAddress):
    """An address in the body or in a header, absolute or relative."""

    by: Literal["next_url"]


class AddressPages(Pages):
    """The address of the next page, from the body, the Link header (RFC 8288) or another header. Relative ones are resolved against the
    page's own.
    """

    def __init__(self, rule: ByAddress, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        at = self._rule.pointer
        if isinstance(self._rule, LinkHeaderPagination):
            found = next_link(page.headers.get("link", ""), self._rule.rel)
        elif at.header is not None:
            found = page.headers.get(at.header, "").strip() or None
        else:
            assert at.path is not None
            found = self._text_at(at.path, page.body)
        if found is None:
            return None
        address = urljoin(page.url, found)
        here, there = urlsplit(page.url), urlsplit(address)
        if (here.scheme, here.netloc) != (there.scheme, there.netloc):
            raise UnexpectedPage(
                self._doing,
                found=f"the next page is at {there.scheme}://{there.netloc}, and this one came from {here.scheme}://{here.netloc}",
                fix="credentials are sent to one host only; if the other host is right, make it the source's address",
            )
        self._leads_on(page, address, "the next page's address")
        return Step(url=address)


LINK_HEADER = PageStyle(LinkHeaderPagination)
NEXT_URL = PageStyle(NextUrlPagination)
