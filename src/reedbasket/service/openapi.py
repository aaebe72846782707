"""The OpenAPI 3.1 document, made from the declared operations."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

from pydantic import TypeAdapter
from pydantic.json_schema import models_json_schema

from .. import __version__, wire
from .operations import LARGEST_NUMBER, Body, Operation, Operations

_REF = "#/components/schemas/{model}"


def document(operations: Operations) -> dict[str, Any]:
    """The OpenAPI document of all operations."""
    paths: dict[str, dict[str, Any]] = {}
    schemas: dict[str, Any] = {}
    bodies: list[tuple[type[Body], Any]] = [(o.body, "validation") for o in operations.all if o.body]
    if bodies:
        _, made = models_json_schema(bodies, ref_template=_REF)
        schemas.update(made.get("$defs", {}))
    for operation in operations.all:
        paths.setdefault(operation.path, {})[operation.method.lower()] = _operation(operation, schemas)
    _schema_of(wire.Problem, schemas)
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Reed Basket",
            "version": __version__,
            "description": "Feeds, runs, ledger, tables. Times are RFC 3339 in UTC; errors are RFC 9457 with a stable `code`.",
        },
        "servers": [{"url": "/"}],
        "security": [{"bearer": []}, {"session": []}],
        "paths": paths,
        "components": {
            "schemas": dict(sorted(schemas.items())),
            "securitySchemes": {
                "bearer": {"type": "http", "scheme": "bearer"},
                "session": {"type": "apiKey", "in": "cookie", "name": "reed_session"},
            },
        },
    }


def _operation(operation: Operation, schemas: dict[str, Any]) -> dict[str, Any]:
    parameters: list[dict[str, Any]] = []
    for name in re.findall(r"{(\w+)}", operation.path):
        kind: dict[str, Any] = (
            {"type": "integer", "minimum": 0, "maximum": LARGEST_NUMBER}
            if name in operation.int_names
            else {"type": "string", "minLength": 1}
        )
        parameters.append({"name": name, "in": "path", "required": True, "schema": kind})
    if operation.query is not None:
        schema = operation.query.model_json_schema(by_alias=True)
        for name, item in schema["properties"].items():
            about = item.pop("description", None)
            entry = {"name": name, "in": "query", "required": name in schema.get("required", []), "schema": item}
            parameters.append(entry | ({"description": about} if about else {}))
    made: dict[str, Any] = {
        "operationId": operation.name,
        "summary": operation.summary,
        "x-role": operation.role or "none",
        "responses": {str(operation.status): _answer(operation, schemas)},
    }
    if parameters:
        made["parameters"] = parameters
    if operation.body is not None:
        made["requestBody"] = {
            "required": True,
            "content": {"application/json": {"schema": {"$ref": _REF.format(model=operation.body.__name__)}}},
        }
    problems = set(operation.problems)
    if operation.query is not None or operation.body is not None:
        problems.add(400)
    if operation.role is not None:
        problems |= {401, 403}
    for status in sorted(problems):
        made["responses"][str(status)] = {
            "description": "problem details",
            "content": {"application/problem+json": {"schema": {"$ref": _REF.format(model="Problem")}}},
        }
    if operation.role is None:
        made["security"] = []
    return made


def _answer(operation: Operation, schemas: dict[str, Any]) -> dict[str, Any]:
    if operation.status == 204:
        return {"description": "done"}
    if operation.stream:
        about = {
            "text/event-stream": "server-sent events",
            "application/x-ndjson": "one JSON object on each line",
            "application/openmetrics-text": "figures",
            "application/octet-stream": "a file",
        }[operation.stream]
        return {"description": about, "content": {operation.stream: {"schema": {"type": "string"}}}}
    return {
        "description": "the answer",
        "content": {"application/json": {"schema": _schema_of(operation.answer, schemas)}},
    }


def _schema_of(kind: Any, schemas: dict[str, Any]) -> dict[str, Any]:
    made = dict(_adapter(kind).json_schema(ref_template=_REF, mode="serialization"))
    schemas.update(made.pop("$defs", {}))
    name = getattr(kind, "__name__", "")
    if name in vars(wire):
        schemas[name] = made
        return {"$ref": _REF.format(model=name)}
    return made


@cache
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)
