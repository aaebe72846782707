"""One feed for each of its variants: `{variant.region}` in its texts is filled in before anything is checked."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from .mistakes import Mistake, nearest
from .yaml_source import Document, Path

_NAME = re.compile(r"(?<!{){variant\.([A-Za-z0-9_]+)}")
# SQL is never made out of values; there a value is bound, `:variant_region`.
_SQL = {"query", "source_filter", "filter", "compute"}


def expand_variants(document: Document) -> tuple[list[Document], list[Mistake]]:
    """The documents that one stands for: itself if it has no variants. Positions stay those of the original."""
    data = document.data
    if not isinstance(data, dict) or not data or next(iter(data)) != "feed" or not data.get("variants"):
        return [document], []
    sets = data["variants"]
    if not isinstance(sets, list):
        message = "`variants` is a list with a mapping for each feed: [{region: north}, {region: south}]"
        return [], [_mistake(document, ("variants",), message, "definition.bad_value")]
    mistakes: list[Mistake] = []
    documents = []
    for place, values in enumerate(sets):
        if not isinstance(values, dict):
            message = "a variant is a mapping: {region: north}"
            mistakes.append(_mistake(document, ("variants", place), message, "definition.bad_value"))
            continue
        filled = {key: _filled(document, value, values, (key,), mistakes) for key, value in data.items() if key != "variants"}
        documents.append(Document(document.file, {**filled, "variants": [values]}, document.positions, document.text))
    if mistakes:
        return [], list(dict.fromkeys(mistakes))
    names = [one.data["feed"] for one in documents]
    if len(set(map(str, names))) < len(names):
        example = f"{names[0]}-{{variant.{next(iter(sets[0]))}}}"
        message = f'each variant is a feed with its own name; write for example "{example}"'
        mistakes.append(_mistake(document, ("feed",), message, "definition.defined_twice"))
        documents = documents[:1]
    return documents, mistakes


def _filled(document: Document, value: Any, values: Mapping[str, Any], path: Path, mistakes: list[Mistake]) -> Any:
    if isinstance(value, dict):
        return {
            _filled(document, key, values, (*path, key), mistakes): _filled(document, item, values, (*path, key), mistakes)
            for key, item in value.items()
        }
    if isinstance(value, list):
        return [_filled(document, item, values, (*path, place), mistakes) for place, item in enumerate(value)]
    if not isinstance(value, str):
        return value
    for name in _NAME.findall(value):
        if name not in values:
            message = f'this variant has no "{name}"{nearest(name, values)}'
            mistakes.append(_mistake(document, path, message, "definition.unknown_name"))
        elif _SQL & set(map(str, path)):
            message = f"values are not pasted into SQL: write :variant_{name}, which is bound"
            mistakes.append(_mistake(document, path, message, "definition.bad_value"))
    return _NAME.sub(lambda found: str(values.get(found[1], found[0])), value)


def _mistake(document: Document, path: Path, message: str, code: str) -> Mistake:
    line, column = document.position(path)
    return Mistake(document.file, line, column, ".".join(map(str, path)), message, code)
