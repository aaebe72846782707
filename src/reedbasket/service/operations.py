"""How an API operation is declared: once, for the router, the checks and the OpenAPI document."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal, TypeVar, get_type_hints

import orjson
from flask import Blueprint, Response, request
from pydantic import BaseModel, ConfigDict, ValidationError

from ..store.access import Role
from .problems import BadRequest

# Beyond it a browser rounds, and SQLite's own bound (2^63) is not far.
LARGEST_NUMBER = 2**53
_View = TypeVar("_View", bound=Callable[..., Any])


class Query(BaseModel):
    """The query parameters of an operation. Unknown ones are an error, since they were meant for something."""

    model_config = ConfigDict(extra="forbid")


class Body(BaseModel):
    """A JSON request body; 0 is not false, and "1" is not a number."""

    model_config = ConfigDict(extra="forbid", strict=True)


@dataclass(frozen=True)
class Operation:
    """One operation.

    Attributes:
        path: as OpenAPI writes it, /runs/{run}.
        int_names: its whole-number parameters.
        role: the lowest role that may call it; None if nobody has to be signed in.
        stream: the content type of an answer that is streamed; '' for one JSON value.
    """

    name: str
    method: str
    path: str
    summary: str
    answer: Any
    status: int
    query: type[Query] | None
    body: type[Body] | None
    problems: tuple[int, ...]
    role: Role | None
    stream: str
    int_names: frozenset[str] = field(default_factory=frozenset)


class Operations:
    """The declared operations, and the blueprint that serves them."""

    def __init__(self) -> None:
        self.all: list[Operation] = []
        self.blueprint = Blueprint("api", __name__)

    def add(  # noqa: PLR0913 - each by its name
        self,
        method: str,
        path: str,
        summary: str,
        *,
        answer: Any = None,
        status: int = 200,
        query: type[Query] | None = None,
        body: type[Body] | None = None,
        problems: tuple[int, ...] = (),
        role: Role | Literal["usual"] | None = "usual",
        stream: str = "",
    ) -> Callable[[_View], _View]:
        """Declare a view: it takes the path's names, then `query` and `body` if declared, and returns the answer, whose type is its
        return type.

        Args:
            answer: the type of the answer of a view that makes its own response.
            role: unless given, viewer for GET, and operator for everything else.
        """
        takes: Role | None = ("viewer" if method == "GET" else "operator") if role == "usual" else role

        def declare(view: _View) -> _View:
            hints = get_type_hints(view)
            answers = answer if hints["return"] is Response else hints["return"]
            names = re.findall(r"{(\w+)}", path)
            ints = frozenset(n for n in names if hints.get(n) is int)
            operation = Operation(
                view.__name__, method, path, summary, answers, status, query, body, problems, takes, stream, ints
            )
            self.all.append(operation)
            rule = re.sub(r"{(\w+)}", lambda m: f"<{f'int(max={LARGEST_NUMBER}):' if m[1] in ints else ''}{m[1]}>", path)

            def serve(**names: Any) -> Response:
                if query is not None:
                    names["query"] = _checked(query, request.args.to_dict(), "query")
                if body is not None:
                    names["body"] = _checked(body, _json(), "body")
                result = view(**names)
                return result if isinstance(result, Response) else as_json(result, status)

            self.blueprint.add_url_rule(rule, view.__name__, serve, methods=[method], provide_automatic_options=False)
            return view

        return declare


def as_json(value: Any, status: int = 200) -> Response:
    """An answer of JSON, or an empty one."""
    if status == 204:
        return Response(status=204)
    return Response(orjson.dumps(value), status, content_type="application/json")


def _json() -> Any:
    if request.mimetype != "application/json":
        raise BadRequest(
            "reading the request",
            found=f"content type {request.mimetype or 'none'}",
            fix="send application/json",
            code="request.not_json",
        )
    try:
        return orjson.loads(request.get_data())
    except orjson.JSONDecodeError as error:
        raise BadRequest("reading the request's body", found=f"no JSON: {error}", fix="send one JSON object") from error


def _checked(model: type[BaseModel], data: Any, where: str) -> Any:
    try:
        return model.model_validate(data)
    except ValidationError as error:
        wrong = [f"{'.'.join(map(str, e['loc'])) or where}: {e['msg'].lower()}" for e in error.errors(include_input=False)]
        raise BadRequest(f"reading the request's {where}", found="; ".join(wrong), fix="see /api/v1/openapi.json") from error
