"""One basket for several environments: a settings file says, in the same notation, what is different in one of them.

    source: harbour
    settings: {url: "https://harbour.sedge.example"}

overrides the definition of that name: mappings are merged, everything else is replaced.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from .check import dotted
from .mistakes import Mistake, nearest
from .model import KINDS
from .table_list import tables_by_name
from .yaml_source import Document, read_documents


class Overlay:
    """What settings files say. Their mistakes have positions in the settings file."""

    def __init__(self, texts: Mapping[str, str]) -> None:
        self.mistakes: list[Mistake] = []
        self._over: dict[tuple[str, str], Document] = {}
        self._used: set[tuple[str, str]] = set()
        for file, text in texts.items():
            documents, unread = read_documents(file, text)
            self.mistakes += unread
            for listed in documents:
                document, wrong = tables_by_name(listed)
                self.mistakes += wrong
                self._add(document)

    def _add(self, document: Document) -> None:
        data = document.data
        kind = str(next(iter(data), "")) if isinstance(data, dict) else ""
        line, column = document.position((kind,))
        if kind not in KINDS:
            message = f'the first key says what is set, and "{kind}" is not one of the kinds{nearest(kind, KINDS)}'
            self.mistakes.append(Mistake(document.file, line, column, kind, message, "definition.unknown_kind"))
            return
        name = str(data[kind])
        if (kind, name) in self._over:
            message = f'the {kind} "{name}" is set twice; keep one'
            self.mistakes.append(
                Mistake(document.file, line, column, dotted(kind, name, ()), message, "definition.defined_twice")
            )
        self._over[kind, name] = document

    def over(self, document: Document) -> Document:
        """A document with what is set for it."""
        data = document.data
        if not isinstance(data, dict) or not data:
            return document
        kind = str(next(iter(data)))
        found = self._over.get((kind, str(data[kind])))
        if found is None:
            return document
        self._used.add((kind, str(data[kind])))
        return replace(document, data=_joined(data, found.data))

    def unused(self, known: Iterable[tuple[str, str]]) -> list[Mistake]:
        """Mistakes for definitions that do not exist.

        Args:
            known: the basket's definitions.
        """
        names = [f"{kind} {name}" for kind, name in known]
        found = []
        for (kind, name), document in self._over.items():
            if (kind, name) not in self._used:
                line, column = document.position((kind,))
                message = f'the basket has no {kind} "{name}"{nearest(f"{kind} {name}", names)}'
                found.append(
                    Mistake(document.file, line, column, dotted(kind, name, ()), message, f"definition.unknown_{kind}")
                )
        return found

    def placed(self, mistake: Mistake) -> Mistake:
        """A mistake with its position, in the settings file if that caused it."""
        for (kind, name), document in self._over.items():
            for path, (line, column) in document.positions.items():
                if path not in ((), (kind,)) and mistake.path == dotted(kind, name, path):
                    return replace(mistake, file=document.file, line=line, column=column)
        return mistake


def _joined(below: Any, over: Any) -> Any:
    if not isinstance(below, dict) or not isinstance(over, dict):
        return over
    return {
        **below,
        **{key: _joined(below[key], value) if key in below else value for key, value in over.items()},
    }
