"""What is known of a table's structure: learned from records, kept in the warehouse beside the cursor.

A node stands for one field of the source:
    ColumnShape   a value -> one column
    ObjectShape   an object -> its fields become columns of the same table, named outer_inner
    TableShape    a list of objects -> a child table
    None          a field that held only nulls (or empty lists) so far: its column is made when the first value arrives
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from .kinds import Kind
from .names import claim


@dataclass
class ColumnShape:
    name: str
    kind: Kind


@dataclass
class ObjectShape:
    fields: dict[str, Node | None] = field(default_factory=dict)


@dataclass
class TableShape:
    """One warehouse table. parent_kind: the type of `_rb_parent`, None for the table at the top."""

    name: str
    parent_kind: Kind | None = None
    root: ObjectShape = field(default_factory=ObjectShape)
    taken: set[str] = field(default_factory=set)

    def columns(self) -> list[ColumnShape]:
        """Its columns in the source's order."""
        return [node for node in _nodes(self.root) if isinstance(node, ColumnShape)]

    def children(self) -> list[TableShape]:
        """Its child tables, without theirs."""
        return [node for node in _nodes(self.root) if isinstance(node, TableShape)]

    def family(self) -> Iterator[TableShape]:
        """Itself, then all tables below it, parents before children."""
        yield self
        for child in self.children():
            yield from child.family()

    def claim_column(self, path: tuple[str, ...]) -> str:
        """A column name for a field; the same field always gets the same name."""
        name = claim("_".join(path), self.taken, "\0".join(path))
        self.taken.add(name)
        return name

    def unseen(self) -> list[str]:
        """Fields that held only nulls so far, dotted."""
        return [".".join(path) for path in _unseen(self.root, ())]

    def to_data(self) -> dict[str, Any]:
        """Plain data, for JSON."""
        return {"table": self.name, "parent_kind": self.parent_kind, "fields": _fields_to_data(self.root)}

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> TableShape:
        made = cls(data["table"], data["parent_kind"], _fields_from_data(data["fields"]))
        made.taken = {column.name for column in made.columns()}
        return made

    def copy(self) -> TableShape:
        return TableShape.from_data(self.to_data())


Node = ColumnShape | ObjectShape | TableShape


def _nodes(shape: ObjectShape) -> Iterator[Node]:
    for node in shape.fields.values():
        if isinstance(node, ObjectShape):
            yield from _nodes(node)
        elif node is not None:
            yield node


def _unseen(shape: ObjectShape, path: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for name, node in shape.fields.items():
        if node is None:
            yield (*path, name)
        elif isinstance(node, ObjectShape):
            yield from _unseen(node, (*path, name))


def _fields_to_data(shape: ObjectShape) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name, node in shape.fields.items():
        if node is None:
            out[name] = None
        elif isinstance(node, ColumnShape):
            out[name] = {"column": node.name, "kind": node.kind}
        elif isinstance(node, ObjectShape):
            out[name] = {"object": _fields_to_data(node)}
        else:
            out[name] = node.to_data()
    return out


def _fields_from_data(data: dict[str, Any]) -> ObjectShape:
    shape = ObjectShape()
    for name, item in data.items():
        if item is None:
            shape.fields[name] = None
        elif "column" in item:
            shape.fields[name] = ColumnShape(item["column"], item["kind"])
        elif "object" in item:
            shape.fields[name] = _fields_from_data(item["object"])
        else:
            shape.fields[name] = TableShape.from_data(item)
    return shape
