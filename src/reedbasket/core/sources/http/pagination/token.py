"""Pages by a token in the body or in a header, which is sent back."""

from __future__ import annotations

from pydantic import Field
from typing_extensions import override

from ....kinds import PageStyle
from ....spec.fields import RecordsPath
from ....spec.next_page import NextPage, NextPointer
from .pages import Page, Pages, Step


class TokenNext(NextPage):
    """token, or token_header: where the token stands."""

    token: RecordsPath | None = Field(None, description="a token in the body (JMESPath), sent back as `as`")
    token_header: str | None = Field(None, description="a token in this header of the answer, sent back as `as`")
    send_as: str = Field(alias="as", description="the parameter that sends the token")

    @property
    @override
    def pointer(self) -> NextPointer:
        return NextPointer(self.token, self.token_header.lower() if self.token_header is not None else None)

    @override
    def begin(self, doing: str) -> Pages:
        return TokenPages(self, doing)


class TokenPages(Pages):
    """A token in the body or in a header, sent back."""

    def __init__(self, rule: TokenNext, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        if self._rule.token_header is not None:
            token = page.headers.get(self._rule.token_header.lower()) or None
        else:
            assert self._rule.token is not None
            token = self._text_at(self._rule.token, page.body)
        if token is None:
            return None
        self._leads_on(page, token, f"the token {token!r} for the next page")
        return Step({self._rule.send_as: token})


KIND = PageStyle(TokenNext)
