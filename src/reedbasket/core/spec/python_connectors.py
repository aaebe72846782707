"""Connectors in Python in a basket: the file next to the definition, and what its class declares."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import PurePosixPath
from typing import Any

from ..errors import ReedError
from .http import Connector
from .mistakes import Mistake
from .python_runtime import Code
from .yaml_source import Document, Path

# What a class says of itself, asked in a process of its own; core.sources.python.description does it.
Describe = Callable[[Code], dict[str, Any]]
ENDING = ".py"
# What is put into a definition when its class has been asked.
OURS = ("program", "described", "discover_tables")


def program_file(file: str, code: str) -> str:
    """The name of a definition's Python file, as files of a basket are named."""
    return str(PurePosixPath(file).parent / code.partition(":")[0])


def completed(
    document: Document,
    programs: Mapping[str, str],
    known: Mapping[str, Connector],
    describe: Describe | None,
    *,
    kept: bool = False,
) -> tuple[Document, list[Mistake]]:
    """The document completed by what its class declares and by the program, for a connector in Python. What is written overrides what the
    class declares.

    Args:
        known: those in force, whose programs are used unless a new one is given.
        kept: see load_texts.
    """
    data = document.data
    if not isinstance(data, dict) or not data or next(iter(data)) != "connector" or data.get("type") != "python":
        return document, []
    ours = [] if kept else [key for key in OURS if key in data]
    if ours:
        # A program stands in a file of its own, where everybody sees that it is one.
        return document, [_mistake(document, f"{' and '.join(ours)}: set by the service only", "definition.reserved_key")]
    code = data.get("code")
    if not isinstance(code, str) or data.get("described"):
        return document, []
    program = None
    if code.partition(":")[0].endswith(ENDING):
        file = program_file(document.file, code)
        before = known.get(str(data["connector"]))
        program = programs.get(file, before.program if before is not None and before.code == code else None)
        if program is None:
            return document, [
                _mistake(document, f"there is no file {file}; put it next to the definition", "definition.code_not_found")
            ]
    if describe is None:
        return document, [_mistake(document, "connectors in Python cannot be read here", "definition.code_not_found")]
    limits = {name: data[name] for name in ("memory_limit",) if isinstance(data.get(name), int)}
    try:
        stated = describe(Code(entry=code, program=program, **limits))
    except ReedError as error:
        return document, [_mistake(document, f"{error.found}; {error.fix}", error.code)]
    for part in ("settings", "tables"):
        written = data.get(part) if isinstance(data.get(part), dict) else {}
        stated[part] = stated.get(part, {}) | {
            n: {**stated.get(part, {}).get(n, {}), **(own or {})} for n, own in (written or {}).items()
        }
    whole = {**data, **stated, **{n: v for n, v in data.items() if n not in ("settings", "tables")}}
    whole |= {"program": program, "described": True}
    return Document(document.file, whole, document.positions, document.text), []


def _mistake(document: Document, message: str, code: str) -> Mistake:
    path: Path = ("code",)
    line, column = document.position(path)
    return Mistake(document.file, line, column, f"connectors.{document.data['connector']}.code", message, code)
