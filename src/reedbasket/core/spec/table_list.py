"""`tables` as people write them, a list, and as models hold them, by name.

tables: - sailings              # nothing to add - table: boardings      # or with more about it
    write: replace
  - table: yard.cranes    # from a database, under another name here
    as: cranes
"""

from __future__ import annotations

from typing import Any

from .mistakes import Mistake
from .yaml_source import Document, Path

_LISTED = ("connector", "feed")


def tables_by_name(document: Document) -> tuple[Document, list[Mistake]]:
    """The same document with its tables by name and their positions; mistakes if that is not possible."""
    data = document.data
    if not isinstance(data, dict) or not data or next(iter(data)) not in _LISTED or data.get("tables") is None:
        return document, []
    kind = str(next(iter(data)))
    listed = data["tables"]
    if not isinstance(listed, list):
        words = "`tables` is a list: `- sailings`, or `- table: sailings` with more keys below it"
        return document, [_mistake(document, ("tables",), words, "definition.bad_value")]
    tables: dict[str, Any] = {}
    names: dict[int, str] = {}
    mistakes = []
    for place, item in enumerate(listed):
        name, own = _named(item, renames=kind == "feed")
        if name is None:
            words = "an item of the list is a table's name, or a mapping that begins with `table: NAME`"
            mistakes.append(_mistake(document, ("tables", place), words, "definition.bad_value"))
        elif name in tables:
            words = f'the table "{name}" occurs twice; keep one' + (
                ", or give one of them another name with `as`" if kind == "feed" else ""
            )
            mistakes.append(_mistake(document, ("tables", place), words, "definition.defined_twice"))
        else:
            tables[name] = own if own or kind == "connector" else None
            names[place] = name
    positions = {_moved(path, names): at for path, at in document.positions.items()}
    return Document(document.file, {**data, "tables": tables}, positions, document.text), mistakes


def as_written(data: dict[str, Any]) -> dict[str, Any]:
    """A definition as people write it, from one whose tables are by name."""
    tables = data.get("tables")
    if not isinstance(tables, dict):
        return data
    listed: list[Any] = []
    for name, own in tables.items():
        if own and own.get("table"):
            listed.append({"table": own["table"], "as": name, **{key: value for key, value in own.items() if key != "table"}})
        else:
            listed.append({"table": name, **own} if own else name)
    return {**data, "tables": listed}


def _named(item: Any, *, renames: bool) -> tuple[str | None, dict[str, Any]]:
    """(its name, what is said of it). renames: `as` is its name."""
    if isinstance(item, str | int | float) and not isinstance(item, bool):
        return str(item), {}
    if not isinstance(item, dict) or not isinstance(item.get("table"), str | int | float):
        return None, {}
    own = {key: value for key, value in item.items() if key != "table"}
    if not renames or own.get("as") is None:
        return str(item["table"]), own
    return str(own.pop("as")), {"table": str(item["table"]), **own}


def _moved(path: Path, names: dict[int, str]) -> Path:
    if len(path) > 1 and path[0] == "tables" and path[1] in names:
        return ("tables", names[int(path[1])], *path[2:])
    return path


def _mistake(document: Document, path: Path, message: str, code: str) -> Mistake:
    line, column = document.position(path)
    kind = next(iter(document.data))
    return Mistake(
        document.file, line, column, ".".join([f"{kind}s", str(document.data[kind]), *map(str, path)]), message, code
    )
