"""Pages by a value of the last record."""

from __future__ import annotations

from typing import Any

from pydantic import Field
from typing_extensions import override

from ....errors import RecordsNotFound
from ....kinds import PageStyle
from ....spec.next_page import NextPage
from .pages import Page, Pages, Step


class LastRecordNext(NextPage):
    """last: the field whose value is sent back."""

    last: str = Field(description="the last record's value of this field, sent back as `as`")
    send_as: str = Field(alias="as", description="the parameter that sends the value")

    @property
    @override
    def last_is_known(self) -> bool:
        return True

    @property
    @override
    def needs_last_record(self) -> bool:
        return True

    @override
    def begin(self, doing: str) -> Pages:
        return LastRecordPages(self, doing)


class LastRecordPages(Pages):
    """The last record's value of one field, sent back: the page after it. Ends with an empty page."""

    def __init__(self, rule: LastRecordNext, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        if page.last is None:
            return None
        value: Any = page.last
        for step in self._rule.last.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is None or isinstance(value, dict | list):
            raise RecordsNotFound(
                self._doing,
                found=f"the last record of the page has no value at `{self._rule.last}`, by which the next page is asked for",
                fix="name a field in `next.last` that every record has",
                code="source.token_unreadable",
            )
        self._once(str(value), f"the last record's `{self._rule.last}`, {value!r},")
        return Step({self._rule.send_as: str(value)})


KIND = PageStyle(LastRecordNext)
