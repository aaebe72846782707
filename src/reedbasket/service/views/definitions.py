"""Baskets and what was applied of them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from ... import wire
from ...core.errors import NotFound
from ...core.spec import load_texts
from ...store import definitions
from ..operations import Body
from .shared import operations, parts


class BasketFiles(Body):
    """{file name: YAML text}"""

    files: Annotated[dict[str, str], Field(min_length=1, max_length=1000)]
    only_check: bool = False


@operations.add(
    "POST",
    "/api/v1/basket",
    "check a basket, and apply it as one",
    answer=list[wire.Applied],
    body=BasketFiles,
    problems=(422,),
)
def apply_basket(body: BasketFiles) -> Any:
    store = parts().store
    basket = load_texts(body.files, definitions.basket(store))
    return [] if body.only_check else definitions.apply(store, basket)


@operations.add("GET", "/api/v1/definitions", "definitions in force", answer=list[wire.Definition])
def list_definitions() -> Any:
    return [vars(d) for d in definitions.current(parts().store)]


@operations.add("GET", "/api/v1/definitions/{kind}/{name}", "one definition in force", answer=wire.Definition, problems=(404,))
def get_definition(kind: str, name: str) -> Any:
    for found in definitions.current(parts().store, kind):
        if found.name == name:
            return vars(found)
    raise NotFound(
        f"looking up the {kind}",
        name,
        found="no such definition",
        mend="see `reed definitions`",
        code="definition.not_found",
    )
