"""A basket: a folder of definitions that is checked and applied as one.

All mistakes are found in one pass; with a single one, nothing is applied.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path as FilePath
from typing import Any

from ..allowed_paths import Places
from ..errors import DefinitionError
from .check import check_document, dotted, model_of
from .fields import Model
from .http import Connector
from .mistakes import Mistake
from .model import KINDS, Feed
from .overlay import Overlay
from .python_connectors import ENDING, Describe, completed
from .references import check_links, misplaced
from .source import Source
from .table_list import tables_by_name
from .variants import expand_variants
from .warehouse import Warehouse
from .yaml_source import Document, Path, read_documents

_CODE = re.compile(r"^code:\s*[\"']?([\w.-]+\.py)", re.MULTILINE)


@dataclass
class Basket:
    """Checked definitions by kind and name. `documents` keeps their positions: {(kind, name): Document}."""

    connectors: dict[str, Connector] = field(default_factory=dict)
    sources: dict[str, Source] = field(default_factory=dict)
    warehouses: dict[str, Warehouse] = field(default_factory=dict)
    feeds: dict[str, Feed] = field(default_factory=dict)
    documents: dict[tuple[str, str], Document] = field(default_factory=dict)

    def of_kind(self, kind: str) -> dict[str, Any]:
        """{name: definition} of one kind."""
        found: dict[str, Any] = getattr(self, f"{kind}s")
        return found

    def items(self) -> Iterator[tuple[str, str, Model]]:
        """(kind, name, model) in the order of kinds: connectors, sources, warehouses, feeds."""
        for kind in KINDS:
            for name, model in self.of_kind(kind).items():
                yield kind, name, model

    def mistake(self, kind: str, name: str, path: Path, message: str, code: str) -> Mistake:
        """A mistake at a path of a definition, with its file and line if they are known."""
        document = self.documents.get((kind, name)) or Document("(applied before)", {})
        line, column = document.position(path)
        return Mistake(document.file, line, column, dotted(kind, name, path), message, code)

    def over(self, known: Basket | None) -> Basket:
        """What would be in force if these definitions were applied; `documents` are these alone."""
        together = Basket(documents=self.documents)
        for kind in KINDS:
            together.of_kind(kind).update({**(known.of_kind(kind) if known else {}), **self.of_kind(kind)})
        return together

    @classmethod
    def from_stored(cls, stored: Mapping[tuple[str, str], Mapping[str, Any]]) -> Basket:
        """A basket from definitions that were checked before: {(kind, name): data}."""
        basket = cls()
        for (kind, name), data in stored.items():
            basket.of_kind(kind)[name] = model_of(kind, dict(data)).model_validate(data)
        return basket


def load_folder(folder: FilePath) -> Basket:
    """Read every *.yaml and *.yml below a folder (or one file).

    Raises:
        DefinitionError: with all mistakes.
    """
    return load_texts(read_folder(folder))


def read_folder(folder: FilePath) -> dict[str, str]:
    """{path relative to the folder's parent: text} of definitions, and of the Python files that connectors name.

    Raises:
        DefinitionError: there is nothing to read.
    """
    if folder.is_file():
        return {one.name: one.read_text(encoding="utf-8") for one in (folder, *_programs(folder))}
    files = sorted(p for p in folder.rglob("*") if p.suffix in (".yaml", ".yml") and p.is_file())
    files += sorted({found for file in files for found in _programs(file)})
    if not files:
        raise DefinitionError(
            "reading the basket",
            str(folder),
            found="no .yaml file" if folder.exists() else "no such folder",
            fix="name a folder that holds definitions",
            code="definition.empty_folder",
        )
    return {str(p.relative_to(folder.parent)): p.read_text(encoding="utf-8") for p in files}


def _programs(file: FilePath) -> Iterator[FilePath]:
    """Those that connectors in a file of definitions name."""
    for found in _CODE.findall(file.read_text(encoding="utf-8")):
        program = file.parent / found
        if program.is_file():
            yield program


def load_texts(
    texts: Mapping[str, str],
    known: Basket | None = None,
    settings: Mapping[str, str] | None = None,
    describe: Describe | None = None,
    places: Places | None = None,
    kept: bool = False,
) -> Basket:
    """Read definitions, and check them together with those already `known`.

    Args:
        texts: {file name: YAML text}, and the Python files that connectors name.
        settings: files that say what is different in this environment (see overlay).
        places: that files may lie in; None for anywhere.
        kept: the texts come from a store, which keeps programs within definitions.

    Returns:
        Only the definitions in the texts.

    Raises:
        DefinitionError: `details` is the list of mistakes.
    """
    basket = Basket()
    mistakes: list[Mistake] = []
    unreadable: set[tuple[str, str]] = set()
    overlay = Overlay(settings or {})
    mistakes += overlay.mistakes
    programs = {file: text for file, text in texts.items() if file.endswith(ENDING)}
    for file, text in texts.items():
        if file in programs:
            continue
        written, unread = read_documents(file, text)
        mistakes += unread
        documents = []
        for listed in written:
            one, wrong = tables_by_name(listed)
            mistakes += wrong
            stands_for, wrong = expand_variants(one)
            documents += stands_for
            mistakes += wrong
        for document in map(overlay.over, documents):
            whole, lacking = completed(document, programs, known.connectors if known else {}, describe, kept=kept)
            kind, model, wrong = check_document(whole)
            mistakes += lacking or wrong
            if kind is None:
                continue
            name = str(document.data[kind])
            if (kind, name) in basket.documents:
                first = basket.documents[kind, name].file
                message = f'the {kind} "{name}" is defined twice, first in {first}; keep one'
                line, column = document.position((kind,))
                mistakes.append(Mistake(file, line, column, dotted(kind, name, ()), message, "definition.defined_twice"))
                continue
            basket.documents[kind, name] = document = whole
            if model is None:
                unreadable.add((kind, name))
            else:
                basket.of_kind(kind)[name] = model

    together = basket.over(known)
    mistakes += check_links(together, unreadable)
    if places is not None:
        mistakes += misplaced(basket, places)
    raise_if_any([overlay.placed(mistake) for mistake in mistakes] + overlay.unused(basket.documents))
    return basket


def raise_if_any(mistakes: list[Mistake]) -> None:
    """Raise if there are mistakes.

    Raises:
        DefinitionError: `details` is the list of them, by file and line.
    """
    if not mistakes:
        return
    mistakes.sort(key=lambda m: (m.file, m.line, m.column))
    raise DefinitionError(
        "checking the basket",
        found="1 mistake" if len(mistakes) == 1 else f"{len(mistakes)} mistakes",
        fix="nothing was applied; fix what is listed and apply again",
        details=[m.as_dict() for m in mistakes],
    )
