"""The fast path: records of a known structure are read directly into columns, and shaped without looking at single values.

Only what is exactly as before goes this way. Anything else (a new field, another type, a null in a key) is left to the walk, which looks
at every record. Both produce the same columns.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..records.column_types import EXACT_IN_DOUBLE, Kind
from ..records.layout import reference_of
from ..records.structure import ColumnShape, Node, ObjectShape, TableShape
from .batch import TableBatch
from .rules import ShapeRules
from .values import temporal

# How JSON values of a kind are read. The other kinds are made of JSON values of more than one nature, or out of text.
_READ_AS: dict[Kind, pa.DataType] = {
    "bool": pa.bool_(),
    "int64": pa.int64(),
    "double": pa.float64(),
    "text": pa.string(),
    "date": pa.string(),
    "timestamp": pa.string(),
}


class _NotPlain(Exception):
    """Something is not exactly as before."""


@dataclass(frozen=True)
class ExpectedColumns:
    """The form in which records are expected.

    Attributes:
        record: a struct type.
        ignored: fields that the feed leaves out.
    """

    record: pa.StructType
    ignored: frozenset[str]


def expected(
    structure: TableShape, key: Sequence[str], link: Any, rules: ShapeRules, left_out: set[str]
) -> ExpectedColumns | None:
    """The type in which to read records of this structure; None if they have to be walked."""
    if rules.cast or rules.only is not None or rules.objects == "json" or rules.lists == "json" or not structure.root.fields:
        return None
    if structure.children() and not (link == "key" and reference_of(structure, list(key), link) == "key"):
        return None
    try:
        return ExpectedColumns(_struct(structure.root, left_out), frozenset(left_out))
    except _NotPlain:
        return None


def _struct(shape: ObjectShape, left_out: Collection[str] = ()) -> pa.StructType:
    """The struct type of an object.

    Args:
        left_out: fields not to read. Fields further down that are left out are not worth a path of their own.
    """
    taken = {name: node for name, node in shape.fields.items() if name not in left_out}
    if not taken or any(getattr(node, "left_out", False) for node in taken.values()):
        raise _NotPlain
    return pa.struct([(name, _type(node)) for name, node in taken.items()])


def _type(node: Node | None) -> pa.DataType:
    if node is None:
        return pa.null()
    if isinstance(node, ColumnShape):
        if node.kind not in _READ_AS:
            raise _NotPlain
        return _READ_AS[node.kind]
    if node.other is not None:
        raise _NotPlain
    return _struct(node) if isinstance(node, ObjectShape) else pa.list_(_struct(node.root))


def shape_columns(
    structure: TableShape, key: Sequence[str], table: pa.Table, first_owner: int, seen: set[tuple[str, str]]
) -> tuple[list[TableBatch], set[tuple[str, str]]] | None:
    """(batches, parents before children; the columns that occurred) of records read as `expected`; None if one of them needs a closer look.

    Args:
        seen: columns that occurred in some earlier record: one that has only nulls now may be missing altogether.
    """
    path = _FastPath(key, seen)
    rows = table.num_rows
    try:
        batch = TableBatch(structure.name, rows, range(first_owner, first_owner + rows))
        path.batches.append(batch)
        path.fields(
            batch, structure, structure.root, {name: table.column(name).combine_chunks() for name in table.column_names}
        )
    except (_NotPlain, pa.ArrowInvalid):
        return None
    return path.batches, path.met


class _FastPath:
    def __init__(self, key: Sequence[str], seen: set[tuple[str, str]]) -> None:
        self._key = key
        self._seen = seen
        self.batches: list[TableBatch] = []
        self.met: set[tuple[str, str]] = set()

    def fields(self, batch: TableBatch, table: TableShape, shape: ObjectShape, columns: dict[str, pa.Array]) -> None:
        top = batch.parents is None and shape is table.root
        # The key first: children need it to point at.
        for name in sorted(columns, key=lambda n: n not in self._key) if top else columns:
            node, values = shape.fields[name], columns[name]
            if isinstance(node, ColumnShape):
                if top and name in self._key and values.null_count:
                    raise _NotPlain
                self._column(batch, table, node, values)
            elif isinstance(node, ObjectShape):
                fields = [field.name for field in values.type]
                self.fields(batch, table, node, dict(zip(fields, values.flatten())))
            elif isinstance(node, TableShape):
                self._child(batch, node, values)

    def _column(self, batch: TableBatch, table: TableShape, node: ColumnShape, values: pa.Array) -> None:
        place = (table.name, node.name)
        if values.null_count < len(values):
            self.met.add(place)
        elif len(values) and not node.optional and place not in self._seen:
            raise _NotPlain  # nulls, or no field at all: only the records tell
        if node.kind == "double" and len(values):
            # A whole number beyond 2^53 has been rounded on the way; NaN is no JSON.
            bounds = pc.min_max(values).as_py()
            low, high = bounds["min"], bounds["max"]
            if (low is not None and not (low > -EXACT_IN_DOUBLE and high < EXACT_IN_DOUBLE)) or pc.any(
                pc.is_nan(values)
            ).as_py():
                raise _NotPlain
        data = temporal(values, node.kind) if node.kind in ("date", "timestamp") else values
        batch.columns[node.name] = (node.kind, data)

    def _child(self, parent: TableBatch, shape: TableShape, lists: pa.ListArray) -> None:
        items = lists.flatten()
        if items.null_count:
            raise _NotPlain
        of = pc.list_parent_indices(lists)
        lengths = pc.fill_null(pc.list_value_length(lists), 0).to_pylist()
        owners = pc.take(pa.array(parent.owners, pa.int64()), of).to_pylist()
        batch = TableBatch(
            shape.name, len(items), owners, self._references(parent, of), [n for length in lengths for n in range(length)]
        )
        self.batches.append(batch)
        self.fields(batch, shape, shape.root, dict(zip([field.name for field in items.type], items.flatten())))

    def _references(self, parent: TableBatch, of: pa.Array) -> list[Any]:
        """What each child points at: its parent's key, or the place of a child among its parents."""
        if parent.parents is not None:
            assert parent.positions is not None
            refs = [f"{ref}/{pos}" for ref, pos in zip(parent.parents, parent.positions)]
            return [refs[place] for place in of.to_pylist()]
        data = parent.columns[self._key_column][1]
        listed: list[Any] = pc.take(data, of).to_pylist()
        return listed

    @property
    def _key_column(self) -> str:
        first = self.batches[0]
        return next(iter(first.columns))
