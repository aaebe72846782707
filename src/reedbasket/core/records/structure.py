"""What is known about a table's structure: learned from records, and kept in the warehouse with the cursor.

A node represents one field of the source:
    ColumnShape   a value -> one column
    ObjectShape   an object -> its fields become columns of the same table, named outer_inner
    TableShape    a list of objects -> a child table (both keep in `other`, a column of its own, whatever came in their place and is not an
        object or a list)
    None          a field that has held only nulls (or empty lists): its column is created when the first value arrives
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from .column_types import Kind


@dataclass
class ColumnShape:
    """What is known about a column.

    Attributes:
        whole, fraction: the most digits that occurred before and after the point; decimals only.
        optional: some record came without the field.
        gone: no record of the latest load had it.
        left_out: by the feed's present rules; not stored.
    """

    name: str
    kind: Kind
    whole: int = 0
    fraction: int = 0
    optional: bool = False
    gone: bool = False
    left_out: bool = False


@dataclass
class ObjectShape:
    """What is known about the fields of an object; other: a column for what is kept as JSON."""

    fields: dict[str, Node | None] = field(default_factory=dict)
    other: ColumnShape | None = None


@dataclass
class TableShape:
    """One warehouse table; within: the list's own name, folded, as the feed's rules name it."""

    name: str
    root: ObjectShape = field(default_factory=ObjectShape)
    taken: set[str] = field(default_factory=set)
    other: ColumnShape | None = None
    left_out: bool = False
    within: str = ""

    def field(self, path: str) -> Node | None:
        """What a field became; a field inside objects is given by a path with dots."""
        node: Node | None = self.root.fields.get(path)
        if node is not None or "." not in path:
            return node
        node = self.root
        for step in path.split("."):
            node = node.fields.get(step) if isinstance(node, ObjectShape) else None
        return node

    def columns(self) -> list[ColumnShape]:
        """Its columns in the source's order, without those left out."""
        return [node for node in _nodes(self.root) if isinstance(node, ColumnShape) and not node.left_out]

    def children(self) -> list[TableShape]:
        """Its child tables, without their own and without those left out."""
        return [node for node in _nodes(self.root) if isinstance(node, TableShape) and not node.left_out]

    def family(self) -> Iterator[TableShape]:
        """Itself, then all tables below it, parents before children."""
        yield self
        for child in self.children():
            yield from child.family()

    def only_null_fields(self) -> list[str]:
        """Fields that have held only nulls, as paths with dots."""
        return [".".join(path) for path in _unseen(self.root, ())]

    def to_data(self) -> dict[str, Any]:
        """Plain data, for JSON."""
        return {"table": self.name, "within": self.within, "fields": _fields_to_data(self.root), **_other_to_data(self.other)}

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> TableShape:
        """A structure written by `to_data`."""
        made = cls(
            data["table"], _fields_from_data(data["fields"]), other=_other_from_data(data), within=data.get("within", "")
        )
        made.taken = {column.name for column in made.columns()}
        return made

    def copy(self) -> TableShape:
        """A copy that learns independently."""
        return TableShape.from_data(self.to_data())


Node = ColumnShape | ObjectShape | TableShape


def _nodes(shape: ObjectShape) -> Iterator[Node]:
    for node in shape.fields.values():
        if isinstance(node, ObjectShape):
            yield from _nodes(node)
        elif node is not None:
            yield node
        if not isinstance(node, ColumnShape | None) and node.other is not None:
            yield node.other


def _unseen(shape: ObjectShape, path: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for name, node in shape.fields.items():
        if node is None:
            yield (*path, name)
        elif isinstance(node, ObjectShape):
            yield from _unseen(node, (*path, name))


def _column_to_data(column: ColumnShape) -> dict[str, Any]:
    data: dict[str, Any] = {"column": column.name, "kind": column.kind}
    if column.whole or column.fraction:
        data["digits"] = [column.whole, column.fraction]
    return data | {mark: True for mark in ("optional", "gone") if getattr(column, mark)}


def _column_from_data(data: dict[str, Any]) -> ColumnShape:
    whole, fraction = data.get("digits", (0, 0))
    return ColumnShape(data["column"], data["kind"], whole, fraction, data.get("optional", False), data.get("gone", False))


def _other_to_data(other: ColumnShape | None) -> dict[str, Any]:
    return {"other": _column_to_data(other)} if other else {}


def _other_from_data(data: dict[str, Any]) -> ColumnShape | None:
    return _column_from_data(data["other"]) if "other" in data else None


def _fields_to_data(shape: ObjectShape) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name, node in shape.fields.items():
        if node is None:
            out[name] = None
        elif isinstance(node, ColumnShape):
            out[name] = _column_to_data(node)
        elif isinstance(node, ObjectShape):
            out[name] = {"object": _fields_to_data(node), **_other_to_data(node.other)}
        else:
            out[name] = node.to_data()
    return out


def _fields_from_data(data: dict[str, Any]) -> ObjectShape:
    shape = ObjectShape()
    for name, item in data.items():
        if item is None:
            shape.fields[name] = None
        elif "column" in item:
            shape.fields[name] = _column_from_data(item)
        elif "object" in item:
            inner = _fields_from_data(item["object"])
            inner.other = _other_from_data(item)
            shape.fields[name] = inner
        else:
            shape.fields[name] = TableShape.from_data(item)
    return shape
