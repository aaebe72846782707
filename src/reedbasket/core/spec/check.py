"""From pydantic's findings to mistakes with a position, and with the closest known word for an unknown key."""

from __future__ import annotations

from typing import Any, get_args, get_origin

from pydantic import BaseModel, ValidationError

from .fields import Model
from .mistakes import Mistake, nearest
from .model import KINDS
from .source import Source
from .warehouse import Warehouse
from .yaml_source import Document, Path


def check_document(document: Document) -> tuple[str | None, Model | None, list[Mistake]]:
    """(kind, model, mistakes) of one document. The first key of a document says what it defines."""
    data = document.data
    if not isinstance(data, dict) or not data:
        return None, None, [_mistake(document, (), "a definition has to be a mapping", "definition.not_a_mapping")]
    kind = str(next(iter(data)))
    if kind not in KINDS:
        message = f'the first key says what is defined, and "{kind}" is not one of the kinds{nearest(kind, KINDS)}'
        return None, None, [_mistake(document, (kind,), message, "definition.unknown_kind")]
    model = model_of(kind, data)
    try:
        return kind, model.model_validate(data), []
    except ValidationError as error:
        found = error.errors()
        # Of a kind that is not known nobody can say which keys it has.
        unknown = [item for item in found if item["loc"] == ("type",)] if model in (Source, Warehouse) else []
        return kind, None, [_translate(document, kind, model, item) for item in unknown or found]


def model_of(kind: str, data: dict[str, Any]) -> type[Model]:
    """The model of a definition."""
    return KINDS[kind].model_for(data)


def dotted(kind: str, name: Any, path: Path) -> str:
    """`feeds.harbour.tables.bookings.wrte`"""
    return ".".join([f"{kind}s", str(name), *map(str, path)])


def _translate(document: Document, kind: str, model: type[Model], error: Any) -> Mistake:
    path: Path = tuple(error["loc"])
    problem = error["type"]
    found = error.get("input")
    word = str(path[-1]) if path else ""
    if problem == "extra_forbidden":
        message = f'unknown key "{word}"{nearest(word, _keys_at(model, path[:-1], document.data))}'
        return _at(document, kind, path, message, "definition.unknown_key")
    if problem == "missing":
        return _at(document, kind, path, f'the key "{word}" is missing', "definition.missing_key")
    if problem == "member_not_named":
        message = f'the key "{error["ctx"]["key"]}" is missing; it is one of {error["ctx"]["expected"]}'
        return _at(document, kind, path, message, "definition.missing_key")
    if problem == "no_such_member":
        message = f'found "{error["ctx"]["found"]}"{nearest(error["ctx"]["found"], error["ctx"]["expected"].split(", "))}'
        return _at(document, kind, (*path, error["ctx"]["key"]), message, "definition.bad_value")
    if problem == "literal_error":
        allowed = str(error["ctx"]["expected"]).replace("'", "").replace(" or ", ", ").split(", ")
        return _at(document, kind, path, f'found "{found}"{nearest(str(found), allowed)}', "definition.bad_value")
    if problem == "value_error":
        message = str(error["ctx"]["error"])
    else:
        stated = error["msg"][0].lower() + error["msg"][1:]
        message = stated if isinstance(found, dict | list) else f"{stated}; found {found!r}"
    return _at(document, kind, path, message, "definition.bad_value")


def _at(document: Document, kind: str, path: Path, message: str, code: str) -> Mistake:
    line, column = document.position(path)
    name = document.data.get(kind)
    return Mistake(document.file, line, column, dotted(kind, name, path), message, code)


def _mistake(document: Document, path: Path, message: str, code: str) -> Mistake:
    line, column = document.position(path)
    return Mistake(document.file, line, column, ".".join(map(str, path)), message, code)


def _keys_at(model: type[BaseModel], path: Path, data: Any) -> list[str]:
    """The keys that the models allow at a path of the data, walked by their annotations."""
    here: Any = model
    for step in path:
        here, data = _meant(here, data), _within(data, step)
        if isinstance(here, type) and issubclass(here, BaseModel):
            by_key = {f.alias or n: f.annotation for n, f in here.model_fields.items()}
            here = by_key.get(str(step))
        elif get_origin(here) is dict:
            here = get_args(here)[1]
        elif get_origin(here) is list:
            here = get_args(here)[0]
    here = _meant(here, data)
    return here.known_keys() if isinstance(here, type) and issubclass(here, Model) else []


def _within(data: Any, step: Any) -> Any:
    try:
        return data[step]
    except (KeyError, IndexError, TypeError):
        return None


def _meant(annotation: Any, data: Any) -> Any:
    """The model of the kind that the data names, where there are several."""
    found = _inside(annotation)
    return found.model_for(data) if isinstance(found, type) and issubclass(found, Model) else found


def _inside(annotation: Any) -> Any:
    """X out of `X | None` and `Annotated[X, …]`."""
    while get_origin(annotation) is not None and get_origin(annotation) not in (dict, list):
        annotation = next((a for a in get_args(annotation) if a is not type(None)), None)
    return annotation
