"""One batch of records to columns, level by level: each field of a level is taken from all records at once.

This is 1.5 to 2 times as fast as walking record by record, and a type that drifts shows in a single `set(map(type, ...))`.
"""

from __future__ import annotations

from collections.abc import Container, Sequence
from dataclasses import dataclass
from itertools import chain, repeat
from operator import itemgetter
from typing import Any, Literal

import pyarrow as pa

from ..records.column_records import value_at
from ..records.column_types import MOST_DIGITS, widen
from ..records.exact_json import dump
from ..records.layout import reference_of
from ..records.names import claim, fold
from ..records.structure import ColumnShape, Node, ObjectShape, TableShape
from .batch import TableBatch
from .casts import cast_values
from .learning import LearningBatch
from .rules import Change, ShapeRules, dotted
from .values import BadValue, digits, fit, infer, shown

# Objects and lists nested deeper than this become one JSON column: nobody joins a twentieth table.
DEEPEST_LEVEL = 20
_NONE = type(None)


class Walk(LearningBatch):
    """One walk over one batch. `bad` collects the records to leave out: {record number: (why, field)}."""

    def __init__(  # noqa: PLR0913 - what a walk goes by
        self,
        structure: TableShape,
        key: list[str],
        link: Literal["key", "row"],
        rules: ShapeRules,
        expected: Container[str],
        records: list[dict[str, Any]],
        first_owner: int,
        suspicious: bool,
    ) -> None:
        super().__init__(structure, key, rules, expected)
        self.batches: list[TableBatch] = []
        self.bad: dict[int, tuple[BadValue, str]] = {}
        self._link = link
        self._records = records
        self._first_owner = first_owner
        self._suspicious = suspicious
        self._names = {table.name for table in structure.family()}

    def run(self) -> None:
        """Shape all records; those that do not fit are added to `bad`."""
        count = len(self._records)
        owners = range(self._first_owner, self._first_owner + count)
        batch = TableBatch(self.structure.name, count, owners)
        self.batches.append(batch)
        level = _Level(self.structure, batch, "", self._records, range(count), 0)
        self._fields(level, self.structure.root, (), self._records, whole=self.rules.only is None)
        self._check_key(batch)
        if len(self.batches) > 1 and self._link == "key" and self._reference() == "row":
            batch.references = self._row_references()

    def _fields(self, level: _Level, shape: ObjectShape, path: tuple[str, ...], rows: Sequence[Any], *, whole: bool) -> None:
        """All fields of one object level.

        Args:
            rows: dicts or None.
            whole: `include_columns` names something above, so everything is included.
        """
        gappy = None in rows
        present = [r for r in rows if r is not None] if gappy else rows
        known = list(shape.fields)
        columns = {name: _take(rows, name, gappy) for name in known}
        if sum(map(len, present)) != sum(found for _, found in columns.values()):
            for name in dict.fromkeys(chain.from_iterable(present)):
                if name not in columns:
                    shape.fields[name] = None
                    columns[name] = _take(rows, name, gappy)
        # The key first: children need it to point at.
        top = not path and level.batch.parents is None
        tops = {key.partition(".")[0] for key in self.key} | set(self.key)
        names = sorted(columns, key=lambda n: n not in tops) if top else list(columns)
        for name in names:
            values, found = columns[name]
            self._field(
                level, shape, (*path, name), values, found, len(present), whole=whole or self._at_key(level, (*path, name))
            )

    def _field(
        self,
        level: _Level,
        shape: ObjectShape,
        path: tuple[str, ...],
        values: list[Any],
        found: int,
        present: int,
        *,
        whole: bool,
    ) -> None:
        name = path[-1]
        node = shape.fields[name]
        plain = node.name if isinstance(node, ColumnShape) else fold("_".join(path))
        rules, within = self.rules, level.within
        taken = whole or rules.names(within, plain)
        inside = f"{'.'.join(path)}."
        leads_to_key = level.batch.parents is None and any(key.startswith(inside) for key in self.key)
        if rules.skips(within, plain) or not (
            taken or leads_to_key or rules.includes_nested(within, plain, "_") or rules.includes_nested(within, plain, ".")
        ):
            _mark_left_out(node)
            self.left_out.add(".".join(path) if not within else f"{within}.{'.'.join(path)}")
            return
        if node is None:
            node = shape.fields[name] = self._learn(level, path, values)
        if isinstance(node, ColumnShape):
            if found:
                self.seen.add((level.table.name, node.name))
            node.optional = node.optional or 0 < found < present
            self._column(level, node, path, values)
        elif isinstance(node, ObjectShape):
            inner = self._only(dict, level, node, path, values)
            self._fields(
                _Level(level.table, level.batch, within, inner, level.origin, level.depth + 1),
                node, path, inner, whole=taken,
            )  # fmt: skip
        elif isinstance(node, TableShape):
            self._child(level, node, path, self._only(list, level, node, path, values), whole=taken)

    def _at_key(self, level: _Level, path: tuple[str, ...]) -> bool:
        return level.batch.parents is None and ".".join(path) in self.key

    def _learn(self, level: _Level, path: tuple[str, ...], values: Sequence[Any]) -> Node | None:
        types = set(map(type, values))
        types.discard(_NONE)
        table, depth, rules = level.table, level.depth, self.rules
        if types == {dict} and depth < DEEPEST_LEVEL and rules.objects == "columns":
            return ObjectShape()
        if types == {list} and rules.lists == "child_tables":
            inside = set(map(type, chain.from_iterable(v for v in values if v)))
            if not inside:
                return None
            if inside == {dict} and depth < DEEPEST_LEVEL:
                name = claim("_".join((table.name, *path)), self._names, "\0".join((table.name, *path)))
                if not self.may(Change("table", name, "", ".".join(path), ""), rules.drift.new_table):
                    return None
                self._names.add(name)
                return TableShape(name, within=fold("_".join(path)))
        wanted = rules.cast.get(dotted(level.within, fold("_".join(path))))
        kind = wanted or infer(values)
        if kind is None:
            return None
        return self.new_column(table, path, kind)

    def _column(self, level: _Level, node: ColumnShape, path: tuple[str, ...], values: list[Any]) -> None:
        kind, policy, is_key = node.kind, self.rules.drift.changed_type, self._at_key(level, path)
        wanted = self.rules.cast.get(dotted(level.within, node.name))
        drifts = self.drifts(level.table.name, "type")
        if wanted:
            data, misfits = cast_values(values, wanted)
            kind = widen(node.kind, wanted) or node.kind
            if kind != wanted:  # it was loaded as something wider before, and stays that
                kind, data, more = fit(values, node.kind, wider=True, suspicious=self._suspicious)
                misfits += more
        else:
            # A key may grow from number to text, never to something that children cannot point at.
            wider = policy != "reject" or not drifts
            kind, data, misfits = fit(values, node.kind, wider=wider, suspicious=self._suspicious)
            if is_key and kind != node.kind and kind not in ("text", "decimal"):
                kind, data, misfits = fit(values, node.kind, wider=False, suspicious=self._suspicious)
        for misfit in misfits:
            self.bad.setdefault(level.origin[misfit.index], (misfit, ".".join(path)))
        node_was = node.kind
        if kind != node.kind:
            self.may(
                Change("type", level.table.name, node.name, ".".join(path), kind, node.kind),
                "fail" if policy == "fail" else "load",
            )
            node.kind = kind
        if kind == "decimal":
            whole, fraction = digits(data if isinstance(data, list) else data.to_pylist())
            # What is held already may have more digits: of whole numbers 19, of doubles as many as there are at all.
            held = {"int64": (19, 0), "double": (MOST_DIGITS // 2, MOST_DIGITS // 2)}.get(node_was, (0, 0))
            whole, fraction = max(whole, held[0]), max(fraction, held[1])
            node.whole, node.fraction = max(node.whole, whole), max(node.fraction, fraction)
            if node.whole + node.fraction > MOST_DIGITS:
                node.kind = kind = "text"
                data = [None if v is None else format(v, "f") for v in data]
        level.batch.columns[node.name] = (kind, data)

    def _only(
        self, wanted: type, level: _Level, node: ObjectShape | TableShape, path: tuple[str, ...], values: list[Any]
    ) -> list[Any]:
        """The values of the node's type. The others go to its `other` column, or are misfits if types may not drift."""
        fits = set(map(type, values)) <= {wanted, _NONE}
        if fits and wanted is list:
            fits = set(map(type, chain.from_iterable(filter(None, values)))) <= {dict}
        if fits:
            if node.other is not None:
                self._column(level, node.other, path, [None] * len(values))
            return values
        kept: list[Any] = []
        rest: list[Any] = []
        for value in values:
            good = value is None or (isinstance(value, wanted) and not isinstance(value, list))
            if wanted is list and isinstance(value, list):
                good = all(type(item) is dict for item in value)
            kept.append(value if good else None)
            rest.append(None if good else value)
        policy = self.rules.drift.changed_type
        if policy == "reject" and node.other is None and self.drifts(level.table.name, "type"):
            what = "an object" if wanted is dict else "a list of objects"
            for index, value in enumerate(rest):
                if value is not None:
                    misfit = BadValue(index, "value.wrong_type", f"{shown(value)} where {what} was before")
                    self.bad.setdefault(level.origin[index], (misfit, ".".join(path)))
            return kept
        if node.other is None:
            kind = infer(rest)
            assert kind is not None
            name = claim("_".join(path), level.table.taken, "\0".join(path))
            change = Change("column", level.table.name, name, ".".join(path), kind)
            self.may(change, "fail" if policy == "fail" else "load")
            level.table.taken.add(name)
            node.other = ColumnShape(name, kind, optional=True)
        self._column(level, node.other, path, rest)
        return kept

    def _child(
        self, level: _Level, shape: TableShape, path: tuple[str, ...], lists: list[list[Any] | None], *, whole: bool
    ) -> None:
        parent = level.batch
        full = [items or () for items in lists]
        lengths = list(map(len, full))
        items = list(chain.from_iterable(full))
        child_origin = list(chain.from_iterable(map(repeat, level.origin, lengths)))
        batch = TableBatch(
            shape.name,
            len(items),
            list(chain.from_iterable(map(repeat, parent.owners, lengths))),
            list(chain.from_iterable(map(repeat, self._references(parent), lengths))),
            list(chain.from_iterable(map(range, lengths))),
        )
        self.batches.append(batch)
        within = dotted(level.within, fold("_".join(path)))
        # `include_columns` may name columns of the child table; naming none of them takes them all.
        whole = whole and not self.rules.includes_nested("", within, ".")
        self._fields(_Level(shape, batch, within, items, child_origin, level.depth + 1), shape.root, (), items, whole=whole)

    def _reference(self) -> str:
        return reference_of(self.structure, self.key, self._link)

    def _references(self, parent: TableBatch) -> list[Any]:
        """What the children of each row point at."""
        if parent.parents is not None:
            assert parent.positions is not None
            return [f"{ref}/{pos}" for ref, pos in zip(parent.parents, parent.positions)]
        if self._link == "row":
            return [""] * parent.rows
        if self._reference() == "row":
            return self._row_references()
        node = self.structure.field(self.key[0])
        assert isinstance(node, ColumnShape)
        data = parent.columns[node.name][1]
        return data if isinstance(data, list) else data.to_pylist()

    def _row_references(self) -> list[Any]:
        return [dump([value_at(r, k) for k in self.key]) for r in self._records]

    def _check_key(self, batch: TableBatch) -> None:
        for name in self.key:
            node = self.structure.field(name)
            if isinstance(node, ColumnShape) and node.kind != "json":
                data = batch.columns[node.name][1]
                missing = (
                    [i for i, ok in enumerate(data.is_valid().to_pylist()) if not ok]
                    if isinstance(data, pa.Array)
                    else ([i for i, v in enumerate(data) if v is None] if None in data else [])
                )
                message = "the key is null or missing"
            else:
                missing = list(range(batch.rows))
                message = "the key is missing, or is not a single value"
            for index in missing:
                self.bad.setdefault(index, (BadValue(index, "key.missing", message), name))


@dataclass(frozen=True)
class _Level:
    """The position of a walk: the table, its batch, its name within the family, its rows and the record of each."""

    table: TableShape
    batch: TableBatch
    within: str
    rows: Sequence[Any]
    origin: Sequence[int]
    depth: int


def _mark_left_out(node: Node | None) -> None:
    if isinstance(node, ColumnShape):
        node.left_out = True
        return
    if isinstance(node, ObjectShape | TableShape):
        if node.other is not None:
            node.other.left_out = True
        if isinstance(node, TableShape):
            node.left_out = True
        for inner in (node.root if isinstance(node, TableShape) else node).fields.values():
            _mark_left_out(inner)


def _take(rows: Sequence[Any], name: str, gappy: bool) -> tuple[list[Any], int]:
    """(the field of every row, how many rows have it). A missing row or field is None."""
    if not gappy:
        try:
            return list(map(itemgetter(name), rows)), len(rows)
        except KeyError:
            pass
    values = [None if row is None else row.get(name) for row in rows]
    return values, sum(1 for row in rows if row is not None and name in row)
