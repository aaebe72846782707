"""Baskets, and the definitions that were applied."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from pydantic import Field

from ... import wire
from ...core.errors import NotFound
from ...core.spec import json_schema
from ...core.spec.forms import source_forms
from ...core.spec.table_list import as_written
from ...store import definitions
from ...wire.typed import typed
from ..inspection import definitions as inspection
from ..operations import Body
from .shared import caller, isolated, noted, operations, parts

# Ten thousand feeds take a quarter of it. Connectors in Python may take their time to describe themselves.
APPLY_SECONDS, APPLY_MB = 120.0, 2048


class BasketFiles(Body):
    """{file name: YAML text, or the text of a .py file that a connector names}. `settings`: the same, with what is different in this
    environment.
    """

    files: Annotated[dict[str, str], Field(min_length=1, max_length=1000)]
    settings: Annotated[dict[str, str], Field(max_length=100)] = Field(default_factory=dict)
    dry_run: Annotated[bool, Field(description="only say what would change")] = False
    prune: Annotated[bool, Field(description="remove definitions that the basket does not contain")] = False


class Revert(Body):
    """The version to revert to."""

    version: Annotated[int, Field(ge=1, le=2**53)]


@operations.add(
    "POST",
    "/api/v1/basket",
    "check a basket and apply it as one",
    body=BasketFiles,
    problems=(422,),
    role="editor",
)
def apply_basket(body: BasketFiles) -> list[wire.ApplyResult]:
    done, told = isolated(
        APPLY_SECONDS,
        APPLY_MB,
        inspection.applied,
        body.files,
        body.settings,
        caller().name,
        caller().role,
        prune=body.prune,
        dry_run=body.dry_run,
    )
    moved = [f"{one['kind']} {one['name']} {one['change']}" for one in done if one["change"] != "same"]
    noted(("would be: " if body.dry_run else "") + (", ".join(moved) or "nothing new") + (f"; {told}" if told else ""))
    if moved and not body.dry_run:
        parts().scheduler.look()
    return done


@operations.add("GET", "/api/v1/basket", "the definitions in force as files, as they were written: {file: YAML or Python}")
def export_basket() -> dict[str, str]:
    return definitions.export(parts().store)


@operations.add("GET", "/api/v1/definitions", "list the definitions in force")
def list_definitions() -> list[wire.Definition]:
    return [_shown(d) for d in definitions.current(parts().store)]


@operations.add("GET", "/api/v1/definitions/{kind}/{name}", "one definition in force", problems=(404,))
def get_definition(kind: str, name: str) -> wire.Definition:
    latest = definitions.versions(parts().store, kind, name)[0]
    if latest.removed:
        raise NotFound(
            f"looking up the {kind}",
            name,
            found="it was removed",
            fix="revert to an earlier version",
            code="definition.not_found",
        )
    return _shown(latest)


@operations.add(
    "GET",
    "/api/v1/definitions/{kind}/{name}/versions",
    "all versions of a definition, newest first, each with its difference from the one before",
    problems=(404,),
)
def definition_versions(kind: str, name: str) -> list[wire.Version]:
    found = definitions.versions(parts().store, kind, name)
    before = [*found[1:], None]
    return [
        typed(
            wire.Version,
            {n: getattr(one, n) for n in ("kind", "name", "version", "file", "applied_at", "applied_by", "removed")},
            diff=definitions.difference(old, one),
        )
        for one, old in zip(found, before)
    ]


@operations.add(
    "POST",
    "/api/v1/definitions/{kind}/{name}/revert",
    "restore an earlier version of a definition",
    body=Revert,
    problems=(404, 422),
    role="editor",
)
def revert_definition(kind: str, name: str, body: Revert) -> wire.ApplyResult:
    done = isolated(APPLY_SECONDS, APPLY_MB, inspection.reverted, kind, name, body.version, caller().name)
    noted(f"to version {body.version}")
    parts().scheduler.look()
    return done


@operations.add("GET", "/api/v1/forms", "the form fields of each type of source")
def list_forms() -> list[wire.Form]:
    return [typed(wire.Form, asdict(form)) for form in source_forms()]


@operations.add("GET", "/api/v1/schema", "the JSON Schema of definitions, for editors")
def definition_schema() -> dict[str, Any]:
    return json_schema()


def _shown(one: definitions.StoredDefinition) -> wire.Definition:
    found = {n: getattr(one, n) for n in ("kind", "name", "version", "file", "applied_at", "applied_by")}
    return typed(wire.Definition, found, data=as_written(one.data))
