"""How the page after one is asked for. What one style of pages says of itself stands in that style's module."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field, model_validator
from typing_extensions import override

from ..kinds import PAGE_STYLES
from .fields import Model, RecordsPath
from .one_of import ModelClass, OneOf


@dataclass(frozen=True)
class NextPointer:
    """Where a style finds what leads to the next page.

    Attributes:
        path: of the body, as JMESPath.
        header: its name in lower case; `link` too.
    """

    path: str | None = None
    header: str | None = None


class Pagination(OneOf):
    """`by` names the style."""

    named_by = "by"
    by: str
    send_in: Literal["query", "header", "body"] = Field("query", alias="in", description="where what is sent goes")

    @classmethod
    @override
    def member_names(cls) -> Sequence[str]:
        return PAGE_STYLES.names()

    @classmethod
    @override
    def member(cls, name: str) -> ModelClass | None:
        style = PAGE_STYLES.find(name)
        return style.rule if style is not None else None

    # What readers, plans and checks ask of any style

    @property
    def counted(self) -> bool:
        """Pages are told apart by where they lie in a list, which may move while it is read."""
        return False

    @property
    def last_is_known(self) -> bool:
        """A pass ends by what came, and not because nothing leads on."""
        return False

    @property
    def needs_last_record(self) -> bool:
        """The next page is asked for by a value of the last record."""
        return False

    @property
    def page_size(self) -> int | None:
        """Records that a page is asked for with."""
        return None

    @property
    def tells_pages(self) -> bool:
        """A page says how many there are."""
        return False

    @property
    def pointer(self) -> NextPointer:
        """Where an answer leads on."""
        return NextPointer()

    @property
    def body_paths(self) -> Sequence[str]:
        """All that is looked up in a body, as JMESPath."""
        return [self.pointer.path] if self.pointer.path is not None else []

    @property
    def parameter(self) -> str:
        """That is sent to ask for another page."""
        return ""

    @abstractmethod
    def begin(self, doing: str) -> Any:
        """One pass over the pages of one table, a `sources.http.pagination.pages.Pages`.

        Args:
            doing: what is being done, for errors.
        """


class PointedAt(Model):
    """Of a style whose answers lead on: the place in the body, or the header, that does."""

    at: RecordsPath | None = Field(None, description="where it stands in the body (JMESPath)")
    response_header: str | None = Field(None, min_length=1, description="the header of the answer that it stands in")

    @model_validator(mode="after")
    def _one_place(self) -> PointedAt:
        if (self.at is None) == (self.response_header is None):
            raise ValueError("say one of `at`, a place in the body, and `response_header`")
        return self

    @property
    def pointer(self) -> NextPointer:
        """Where an answer leads on."""
        return NextPointer(self.at, self.response_header.lower() if self.response_header is not None else None)
