"""The warehouse tables that one source table becomes, which the loader works from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from .column_types import Kind
from .structure import ColumnShape, TableShape

# What the children of a row point at: the single column of its key, or its `_rb_row_key`.
Reference = Literal["key", "row"]


@dataclass(frozen=True)
class TableLayout:
    """One warehouse table.

    Attributes:
        parent: the position of the table above it in its family; None at the top.
        parent_kind: the type of `_rb_parent`.
        within: its name inside the family, as rules name it: '' at the top, `passengers`, `passengers.bags`.
    """

    name: str
    parent: int | None
    parent_kind: Kind
    columns: list[ColumnShape]
    within: str = ""

    @property
    def names(self) -> list[str]:
        """The names of its columns, in order."""
        return [column.name for column in self.columns]


@dataclass(frozen=True)
class Family:
    """A table and the child tables below it, parents before children.

    Attributes:
        key: the columns of its key; empty if there is none, or nothing was loaded yet.
        newest_by: the column that tells the newest of several rows of one key, before their order does.
        reference: what children of the first table refer to.
        by_file: rows of the first table say which file they came from.
    """

    tables: list[TableLayout]
    key: list[str]
    newest_by: str | None
    reference: Reference
    by_file: bool = False

    @property
    def root(self) -> TableLayout:
        """The table itself, whose children the others are."""
        return self.tables[0]

    def place(self, table: str) -> int:
        """The position of a table among `tables`, by its name."""
        return next(place for place, layout in enumerate(self.tables) if layout.name == table)


def reference_of(structure: TableShape, key: Sequence[str], link: Literal["key", "row"]) -> Reference:
    """A key of one column that is an integer or text is referred to directly; otherwise rows get a `_rb_row_key`."""
    node = structure.field(key[0]) if len(key) == 1 else None
    plain = isinstance(node, ColumnShape) and node.kind in ("int64", "text")
    return "key" if link == "key" and plain else "row"


def layout_of(
    structure: TableShape, key: Sequence[str], newest_by: str | None, link: Literal["key", "row"], *, by_file: bool = False
) -> Family:
    """The layout of a structure.

    Args:
        key: fields of the source.
        newest_by: a field of the source.
    """
    nodes = [structure.field(name) for name in key]
    columns = [node for node in nodes if isinstance(node, ColumnShape)]
    newest = structure.field(newest_by or "")
    reference = reference_of(structure, key, link)
    found: list[tuple[TableShape, TableLayout]] = []

    def add(shape: TableShape, parent: int | None, within: str) -> None:
        kind: Kind = "int64" if parent == 0 and reference == "key" and columns[0].kind == "int64" else "text"
        place = len(found)
        found.append((shape, TableLayout(shape.name, parent, kind, shape.columns(), within)))
        for child in shape.children():
            inner = child.within or child.name.removeprefix(shape.name + "_")
            add(child, place, f"{within}.{inner}" if within else inner)

    add(structure, None, "")
    return Family(
        [layout for _, layout in found],
        [column.name for column in columns],
        newest.name if isinstance(newest, ColumnShape) else None,
        reference,
        by_file,
    )
