"""Baskets and what was applied of them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from ... import wire
from ...core.errors import NotFound
from ...core.run.shown_to import shown
from ...core.spec import Basket, json_schema, load_texts
from ...core.spec.programs import ENDING
from ...store import definitions
from ..operations import Body
from ..whose_code import describing, needs_admin
from .shared import caller, noted, operations, parts


class BasketFiles(Body):
    """{file name: YAML text, or that of a .py file that a connector names}. settings: the same, of what is different here."""

    files: Annotated[dict[str, str], Field(min_length=1, max_length=1000)]
    settings: Annotated[dict[str, str], Field(max_length=100)] = Field(default_factory=dict)
    only_check: Annotated[bool, Field(description="say what would change, and change nothing")] = False
    prune: Annotated[bool, Field(description="remove what the basket does not hold")] = False


class Revert(Body):
    version: Annotated[int, Field(ge=1, le=2**53)]


@operations.add(
    "POST",
    "/api/v1/basket",
    "check a basket, and apply it as one",
    answer=list[wire.Applied],
    body=BasketFiles,
    problems=(422,),
    role="editor",
)
def apply_basket(body: BasketFiles) -> Any:
    store = parts().store
    # Where everything else goes, nothing else can be stood on.
    there = definitions.basket(store)
    _require_admin_for_code(body.files, there)
    basket = load_texts(
        body.files,
        None if body.prune else there,
        body.settings,
        describe=describing(caller().name, caller().role, there),
        places=store.places,
    )
    done = definitions.apply(store, basket, by=caller().name, prune=body.prune, only_look=body.only_check)
    moved = [f"{one['kind']} {one['name']} {one['change']}" for one in done if one["change"] != "same"]
    told = "; ".join(f"{secret} is shown to {server}" for secret, server in sorted(shown(basket.over(there)) - shown(there)))
    noted(("would be: " if body.only_check else "") + (", ".join(moved) or "nothing new") + (f"; {told}" if told else ""))
    if moved and not body.only_check:
        parts().scheduler.look()
    return done


def _require_admin_for_code(files: dict[str, str], there: Basket) -> None:
    """Python runs on this machine: who may bring it is who may do everything else. What is in force already may come along."""
    in_force = {connector.program for connector in there.connectors.values()}
    new = sorted(file for file, text in files.items() if file.endswith(ENDING) and text not in in_force)
    if new and caller().role != "admin":
        raise needs_admin(new[0], caller().name, caller().role)


@operations.add("GET", "/api/v1/basket", "what is in force, as it was written: {file: YAML, or Python}", answer=dict[str, str])
def export_basket() -> Any:
    return definitions.export(parts().store)


@operations.add("GET", "/api/v1/definitions", "definitions in force", answer=list[wire.Definition])
def list_definitions() -> Any:
    return [_shown(d) for d in definitions.current(parts().store)]


@operations.add("GET", "/api/v1/definitions/{kind}/{name}", "one definition in force", answer=wire.Definition, problems=(404,))
def get_definition(kind: str, name: str) -> Any:
    latest = definitions.versions(parts().store, kind, name)[0]
    if latest.removed:
        raise NotFound(
            f"looking up the {kind}",
            name,
            found="it was removed",
            mend="revert to an earlier version",
            code="definition.not_found",
        )
    return _shown(latest)


@operations.add(
    "GET",
    "/api/v1/definitions/{kind}/{name}/versions",
    "all versions of one, the latest first, each with its difference to the one before",
    answer=list[wire.Version],
    problems=(404,),
)
def definition_versions(kind: str, name: str) -> Any:
    found = definitions.versions(parts().store, kind, name)
    before = [*found[1:], None]
    return [
        {
            **{n: getattr(one, n) for n in ("kind", "name", "version", "file", "applied_at", "applied_by", "removed")},
            "diff": definitions.difference(old, one),
        }
        for one, old in zip(found, before)
    ]


@operations.add(
    "POST",
    "/api/v1/definitions/{kind}/{name}/revert",
    "an earlier version in force again",
    answer=wire.Applied,
    body=Revert,
    problems=(404, 422),
    role="editor",
)
def revert_definition(kind: str, name: str, body: Revert) -> Any:
    done = definitions.revert(parts().store, kind, name, body.version, by=caller().name)
    noted(f"to version {body.version}")
    parts().scheduler.look()
    return done


@operations.add("GET", "/api/v1/schema", "JSON Schema of definitions, for editors", answer=dict[str, Any])
def definition_schema() -> Any:
    return json_schema()


def _shown(one: definitions.Stored) -> dict[str, Any]:
    return {n: getattr(one, n) for n in ("kind", "name", "version", "data", "file", "applied_at", "applied_by")}
