"""YAML with positions: every path of a document knows its line and column.

PyYAML's SafeLoader follows YAML 1.1, in which a bare `on` or `no` is a boolean and `12:30` is a number in base 60; so scalars here follow
the YAML 1.2 core schema (https://yaml.org/spec/1.2.2/#103-core-schema). A key that occurs twice is a mistake; the last one does not win.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field
from typing import Any

import yaml

from .mistakes import Mistake

Path = tuple[str | int, ...]
# Of one document: a hundred times what 600 tables with all their keys take would be more.
MOST_PLACES = 100_000
MOST_DOCUMENTS = 10_000
_MOST_DIGITS = 400
_BORDER = re.compile(r"^(?:---(?:[ \t].*)?|\.\.\.[ \t]*)$\n?", re.MULTILINE)


class _CoreLoader(yaml.SafeLoader):
    yaml_implicit_resolvers: dict[str, Any] = {}  # noqa: RUF012  (PyYAML's own way to replace the inherited table)


for _tag, _pattern, _first in (
    ("tag:yaml.org,2002:null", r"~|null|Null|NULL|", ["~", "n", "N", ""]),
    ("tag:yaml.org,2002:bool", r"true|True|TRUE|false|False|FALSE", list("tTfF")),
    ("tag:yaml.org,2002:int", r"[-+]?[0-9]+", list("-+0123456789")),
    ("tag:yaml.org,2002:float", r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?", list("-+.0123456789")),
):
    _CoreLoader.add_implicit_resolver(_tag, re.compile(rf"^(?:{_pattern})$"), _first)


def _whole_number(loader: yaml.SafeLoader, node: yaml.ScalarNode) -> int:
    text = loader.construct_scalar(node)
    if len(text) > _MOST_DIGITS:
        raise yaml.MarkedYAMLError(problem="a number with so many digits is not supported", problem_mark=node.start_mark)
    return int(text)


# '010' is ten in the core schema; PyYAML's own constructor would read it as octal.
_CoreLoader.add_constructor("tag:yaml.org,2002:int", _whole_number)


@dataclass
class Document:
    """One YAML document: plain Python data, the position of each path, {path: (line, column)}, both from 1, and the text as it was
    written, comments included.
    """

    file: str
    data: Any
    positions: dict[Path, tuple[int, int]] = field(default_factory=dict)
    text: str = ""

    def position(self, path: Path) -> tuple[int, int]:
        """The position of a path, or of the nearest enclosing one (a missing key has its parent's)."""
        for length in range(len(path), -1, -1):
            if path[:length] in self.positions:
                return self.positions[path[:length]]
        return (1, 1)


def read_documents(file: str, text: str) -> tuple[list[Document], list[Mistake]]:
    """All documents of one YAML file, and what could not be read. Empty documents are skipped."""
    documents: list[Document] = []
    mistakes: list[Mistake] = []
    loader = None
    try:
        loader = _CoreLoader(text)
        borders = [found.span() for found in _BORDER.finditer(text)]
        if len(borders) > MOST_DOCUMENTS:
            raise yaml.MarkedYAMLError(problem=f"it has {len(borders)} documents; a file may have at most {MOST_DOCUMENTS}")
        while loader.check_node():
            node = loader.get_node()
            assert node is not None
            document = Document(file, None, text=_written(text, node, borders))
            _walk(node, (), document, mistakes)
            if len(document.positions) > MOST_PLACES:
                raise yaml.MarkedYAMLError(problem="it expands to more than a basket may hold", problem_mark=node.start_mark)
            document.data = loader.construct_document(node)
            if document.data is not None:
                documents.append(document)
    except RecursionError:
        message = "not valid YAML: it is nested too deeply"
        mistakes.append(Mistake(file, 1, 1, "", message, "definition.not_yaml"))
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        stated = getattr(error, "problem", None) or str(error).splitlines()[0]
        mistakes.append(Mistake(file, line, column, "", f"not valid YAML: {stated}", "definition.not_yaml"))
    finally:
        if loader is not None:
            loader.dispose()
    return documents, mistakes


def _written(text: str, node: yaml.Node, borders: list[tuple[int, int]]) -> str:
    """What stands between the borders (`---`) of one document, in order."""
    before = bisect_right(borders, node.start_mark.index, key=lambda border: border[1])
    behind = bisect_left(borders, node.end_mark.index, key=lambda border: border[0])
    begin = borders[before - 1][1] if before else 0
    ends = borders[behind][0] if behind < len(borders) else len(text)
    written = text[begin:ends]
    return written if written.endswith("\n") else written + "\n"


def _walk(node: yaml.Node, path: Path, document: Document, mistakes: list[Mistake]) -> None:
    """Goes no further where aliases of aliases stand for more than anybody wrote."""
    if len(document.positions) > MOST_PLACES:
        return
    document.positions.setdefault(path, (node.start_mark.line + 1, node.start_mark.column + 1))
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            name = str(key.value)
            if isinstance(key, yaml.ScalarNode):
                key.tag = "tag:yaml.org,2002:str"  # a key is a word, whatever it looks like
            here = (*path, name)
            line, column = key.start_mark.line + 1, key.start_mark.column + 1
            if here in document.positions:
                first = document.positions[here][0]
                message = f'the key "{name}" occurs twice, first in line {first}; keep one'
                mistakes.append(
                    Mistake(document.file, line, column, ".".join(map(str, here)), message, "definition.duplicate_key")
                )
            document.positions[here] = (line, column)
            _walk(value, here, document, mistakes)
    elif isinstance(node, yaml.SequenceNode):
        for index, item in enumerate(node.value):
            _walk(item, (*path, index), document, mistakes)
