"""Pages by a value of the last record."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from ....errors import RecordsNotFound
from ....kinds import PageStyle
from ....spec.pagination import Pagination
from .pages import Page, Pages, Step


class KeysetPagination(Pagination):
    """The last record's value of one column, sent back as `param`."""

    last_is_known: ClassVar[bool] = True
    needs_last_record: ClassVar[bool] = True
    by: Literal["keyset"]
    column: str = Field(description="the field whose value in the last record is sent")
    param: str = Field(description="the parameter that sends the value")

    @override
    def begin(self, doing: str) -> Pages:
        return KeysetPages(self, doing)


class KeysetPages(Pages):
    """Sends back the last record's value of one field, for the page after it. Ends with an empty page."""

    def __init__(self, rule: KeysetPagination, doing: str) -> None:
        super().__init__(doing)
        self._rule = rule

    @override
    def after(self, page: Page) -> Step | None:
        if page.last is None:
            return None
        value: Any = page.last
        for step in self._rule.column.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is None or isinstance(value, dict | list):
            raise RecordsNotFound(
                self._doing,
                found=f"the last record of the page has no value at `{self._rule.column}`, by which the next page is requested",
                fix="name a field in `pagination.column` that every record has",
                code="source.bad_page_token",
            )
        self._once(str(value), f"the last record's `{self._rule.column}`, {value!r},")
        return Step({self._rule.param: str(value)})


KIND = PageStyle(KeysetPagination)
