"""How the next page is requested. The rules of each style are in that style's module."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from pydantic import Field, model_validator
from typing_extensions import override

from ..kinds import PAGE_STYLES
from .fields import Model, RecordsPath
from .one_of import ModelClass, OneOf


@dataclass(frozen=True)
class NextPointer:
    """Where a style finds what leads to the next page.

    Attributes:
        path: in the body, as JMESPath.
        header: its name in lower case; `link` too.
    """

    path: str | None = None
    header: str | None = None


class Pagination(OneOf):
    """Pagination; `by` names the style."""

    named_by = "by"
    by: str
    send_in: Literal["query", "header", "body"] = Field("query", alias="in", description="where the value is sent")

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

    # Pages are identified by positions in a list, which may change during the read.
    counted: ClassVar[bool] = False
    # The last page is recognised by its content, and not because nothing leads on.
    last_is_known: ClassVar[bool] = False
    # The next page is requested by a value of the last record.
    needs_last_record: ClassVar[bool] = False

    @property
    def page_size(self) -> int | None:
        """How many records are requested for a page."""
        return None

    @property
    def tells_pages(self) -> bool:
        """Whether a page says how many there are."""
        return False

    @property
    def pointer(self) -> NextPointer:
        """Where an answer says how to continue."""
        return NextPointer()

    @property
    def body_paths(self) -> Sequence[str]:
        """Everything that is looked up in a body, as JMESPath."""
        return [self.pointer.path] if self.pointer.path is not None else []

    @property
    def parameter(self) -> str:
        """What is sent to request another page."""
        return ""

    @abstractmethod
    def begin(self, doing: str) -> Any:
        """One pass over the pages of one table, a `sources.http.pagination.pages.Pages`.

        Args:
            doing: what is being done, for errors.
        """


class PointedAt(Model):
    """A style whose answers say how to continue: the place in the body, or the header, that does."""

    at: RecordsPath | None = Field(None, description="its place in the body (a JMESPath)")
    response_header: str | None = Field(None, min_length=1, description="the answer's header that contains it")

    @model_validator(mode="after")
    def _one_place(self) -> PointedAt:
        if (self.at is None) == (self.response_header is None):
            raise ValueError("give either `at`, a place in the body, or `response_header`")
        return self

    @property
    def pointer(self) -> NextPointer:
        """Where an answer says how to continue."""
        return NextPointer(self.at, self.response_header.lower() if self.response_header is not None else None)
