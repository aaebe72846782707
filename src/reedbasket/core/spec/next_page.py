"""How the page after one is asked for. What one style of pages says of itself stands in that style's module."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field, GetJsonSchemaHandler, ModelWrapValidatorHandler, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema
from typing_extensions import override

from ..kinds import PAGE_STYLES
from .fields import Model


@dataclass(frozen=True)
class NextPointer:
    """Where a style finds what leads to the next page.

    Attributes:
        path: of the body, as JMESPath.
        header: its name in lower case; `link` too.
    """

    path: str | None = None
    header: str | None = None


class NextPage(Model):
    """Exactly one key says the style. Validated, it is the model of that style."""

    send_in: Literal["query", "header", "body"] = Field("query", alias="in", description="where what is sent goes")

    @classmethod
    @override
    def model_for(cls, data: Any) -> type[Model]:
        said = _styles_of(data)
        return PAGE_STYLES.get(said[0]).rule if len(said) == 1 else cls

    @model_validator(mode="wrap")
    @classmethod
    def _of_its_style(cls, data: Any, handler: ModelWrapValidatorHandler[NextPage]) -> NextPage:
        if cls is not NextPage or not isinstance(data, dict):
            return handler(data)
        said = _styles_of(data)
        if len(said) != 1:
            raise ValueError(f"say one of {', '.join(PAGE_STYLES.names())}" + (f", not {' and '.join(said)}" if said else ""))
        rule: NextPage = PAGE_STYLES.get(said[0]).rule.model_validate(data)
        return rule

    @classmethod
    @override
    def __get_pydantic_json_schema__(cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        if cls is not NextPage:
            return handler(core_schema)
        models = dict.fromkeys(PAGE_STYLES.get(name).rule for name in PAGE_STYLES.names())
        return {"anyOf": [handler(model.__pydantic_core_schema__) for model in models]}

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


def _styles_of(data: Any) -> list[str]:
    """The keys that say a style."""
    stated = [str(key) for key, value in data.items() if value is not None] if isinstance(data, dict) else []
    return [key for key in stated if PAGE_STYLES.find(key) is not None]
