"""Pages by the next one's address."""

from __future__ import annotations

from urllib.parse import urljoin, urlsplit

from pydantic import Field, model_validator
from typing_extensions import override

from ....errors import ForeignPage
from ....kinds import PageStyle
from ....spec.fields import RecordsPath
from ....spec.next_page import NextPage, NextPointer
from ..link_header import next_link
from .pages import Page, Pages, Step


class AddressNext(NextPage):
    """link, url, or url_header: where the address stands."""

    link: str | None = Field(None, description="the relation in the Link header (RFC 8288) that leads on: next")
    url: RecordsPath | None = Field(None, description="the next page's address in the body (JMESPath), absolute or relative")
    url_header: str | None = Field(None, min_length=1, description="the next page's address in this header of the answer")

    @model_validator(mode="after")
    def _whole(self) -> AddressNext:
        if self.send_in != "query":
            key = next(key for key in ("link", "url", "url_header") if getattr(self, key) is not None)
            raise ValueError(f"`{key}` is a whole address, and has no `in`")
        return self

    @property
    @override
    def pointer(self) -> NextPointer:
        header = "link" if self.link is not None else self.url_header
        return NextPointer(self.url, header.lower() if header is not None else None)

    @override
    def begin(self, doing: str) -> Pages:
        return AddressPages(self, doing)


class AddressPages(Pages):
    """The next page's address, in the body, the Link header (RFC 8288) or another; relative ones count from the page's own."""

    def __init__(self, rule: AddressNext, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

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
                fix="credentials go to one host only; if the other one is meant, make it the source's address",
            )
        self._leads_on(page, address, "the next page's address")
        return Step(url=address)


KIND = PageStyle(AddressNext)
