"""Records whose source declares the types of columns: columns are passed on as they are, and only the structure is looked at.

The table's fields carry `kind` (a type of ours) and `digits` ("whole,fraction" of decimals, -1 if not declared) as metadata.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..records.arrow import DIGITS_OF_128, one_array
from ..records.column_records import ColumnRecords
from ..records.column_types import MOST_DIGITS, ColumnData, Kind, widen
from ..records.names import fold
from ..records.plain_values import DAYS, plain_values
from ..records.structure import ColumnShape
from .batch import TableBatch
from .casts import cast_values
from .learning import LearningBatch
from .values import BadValue, fit

# Microseconds of the years 1 to 9999.
_MICROS = (-62_135_596_800_000_000, 253_402_300_799_999_999)


def is_typed(records: Sequence[Any]) -> bool:
    """Whether the source declares the type of each column."""
    if not isinstance(records, ColumnRecords):
        return False
    metadata = [field.metadata for field in records.columns.schema]
    return bool(metadata) and all(found and b"kind" in found for found in metadata)


def typed_field(name: str, kind: str, values: Any, whole: int = -1, fraction: int = -1) -> tuple[pa.Field, Any]:
    """A column with its type, or `null` if nothing is known yet because all its values are null.

    Args:
        whole, fraction: digits of decimals; -1 if not declared.
    """
    data = {b"kind": kind.encode(), b"digits": f"{whole},{fraction}".encode()}
    return pa.field(name, values.type, metadata=data), values


class TypedWalk(LearningBatch):
    """Shapes one batch. `bad` collects the records to leave out: {record number: (why, field)}."""

    def run(self, records: ColumnRecords, first_owner: int) -> None:
        """Shape the columns; records that do not fit are added to `bad`."""
        table = records.columns
        self.bad: dict[int, tuple[BadValue, str]] = {}
        self.batch = TableBatch(self.structure.name, table.num_rows, range(first_owner, first_owner + table.num_rows))
        for field, values in zip(table.schema, table.columns):
            kind: Any = field.metadata[b"kind"].decode()
            whole, fraction = map(int, field.metadata[b"digits"].split(b","))
            if kind == "null":
                self.structure.root.fields.setdefault(field.name, None)
                continue
            self._column(field.name, kind, (whole, fraction), one_array(values))
        for name in self.key:
            node = self.structure.root.fields.get(name)
            held = self.batch.columns.get(node.name) if isinstance(node, ColumnShape) else None
            missing = range(table.num_rows)
            if held is not None and held[0] != "json":
                missing = _nulls(held[1])
            for index in missing:
                self.bad.setdefault(index, (BadValue(index, "key.missing", "the key is null or missing"), name))

    def _column(self, name: str, kind: Kind, digits: tuple[int, int], values: pa.Array) -> None:
        table, rules = self.structure, self.rules
        node = table.root.fields.get(name)
        plain = node.name if isinstance(node, ColumnShape) else fold(name)
        if rules.skips("", plain) or not (rules.names("", plain) or name in self.key):
            if isinstance(node, ColumnShape):
                node.left_out = True
            table.root.fields.setdefault(name, None)
            self.left_out.add(name)
            return
        misfits = _out_of_range(kind, values)
        wanted = rules.cast.get(plain)
        if not isinstance(node, ColumnShape):
            node = self._learn(name, wanted or kind)
            if node is None:
                return
        self.seen.add((table.name, node.name))
        data: ColumnData
        if wanted:
            data, misfits = self._as_wanted(node, name, kind, wanted, values, misfits)
        elif kind == node.kind:
            data = _fitting(kind, values, misfits)
        else:
            data, misfits = self._other(node, name, kind, values)
        if node.kind == "decimal":
            data = self._count_digits(node, kind, digits, data, values)
        for misfit in misfits:
            self.bad.setdefault(misfit.index, (misfit, name))
        self.batch.columns[node.name] = (node.kind, data)

    def _as_wanted(
        self, node: ColumnShape, name: str, kind: Kind, wanted: Kind, values: pa.Array, misfits: list[BadValue]
    ) -> tuple[ColumnData, list[BadValue]]:
        """A column that the feed casts. misfits: of the values as they came."""
        data = _fitting(kind, values, misfits)
        if wanted != kind:
            data, misfits = cast_values(plain_values(kind, values), wanted)
        if wanted != node.kind and widen(node.kind, wanted) == wanted:
            self.may(self.type_change(node, name, wanted), "load")
            node.kind = wanted
        elif kind == node.kind:  # as it was loaded before the feed asked for less
            misfits = []
            data = _fitting(kind, values, misfits)
        elif wanted != node.kind:  # it was loaded as something wider before, and stays that
            _, data, more = fit(plain_values(wanted, data), node.kind, wider=False)
            misfits += more
        return data, misfits

    def _learn(self, name: str, kind: Kind) -> ColumnShape | None:
        made = self.new_column(self.structure, (name,), kind)
        self.structure.root.fields[name] = made
        return made

    def _other(self, node: ColumnShape, name: str, kind: Kind, values: pa.Array) -> tuple[ColumnData, list[BadValue]]:
        """Of another kind than was loaded before."""
        policy, drifts = self.rules.drift.changed_type, self.drifts(self.structure.name, "type")
        wider = policy != "reject" or not drifts or widen(node.kind, kind) == node.kind
        listed = plain_values(kind, values)
        now, data, misfits = fit(listed, node.kind, wider=wider)
        if now != node.kind:
            if widen(node.kind, kind) is not None:
                # The column's whole type, not only what of it these values show: the next batch would widen it again.
                joined: Any = widen(node.kind, kind)
                again, whole_data, more = fit(listed, joined, wider=False)
                now, data, misfits = (again, whole_data, more) if not more else (now, data, misfits)
            change = self.type_change(node, name, now)
            self.may(change, "fail" if policy == "fail" else "load")
            node.kind = now
        return data, misfits

    def _count_digits(
        self, node: ColumnShape, kind: Kind, digits: tuple[int, int], data: ColumnData, values: pa.Array
    ) -> ColumnData:
        whole, fraction = digits if kind == "decimal" and digits[1] >= 0 else _digits_of(data)
        if kind == "int64" or (node.whole == 0 and kind != "decimal"):
            whole = max(whole, 19)
        node.whole, node.fraction = max(node.whole, whole), max(node.fraction, fraction)
        if node.whole + node.fraction > MOST_DIGITS:
            node.kind = "text"
            return [None if v is None else format(v, "f") for v in (data if isinstance(data, list) else data.to_pylist())]
        if not isinstance(data, list) and node.whole + node.fraction <= DIGITS_OF_128:
            wanted = pa.decimal128(DIGITS_OF_128, node.fraction)
            return data if data.type == wanted else data.cast(wanted)
        return data


def _out_of_range(kind: Kind, values: pa.Array) -> list[BadValue]:
    if kind not in ("date", "timestamp") or not len(values):
        return []
    (low, high), plain = (DAYS, values.view(pa.int32())) if kind == "date" else (_MICROS, values.view(pa.int64()))
    found = pc.min_max(plain).as_py()
    if found["min"] is None or (found["min"] >= low and found["max"] <= high):
        return []
    beyond = pc.fill_null(pc.or_(pc.less(plain, low), pc.greater(plain, high)), False)
    message = f"a {kind} beyond the years 1 to 9999, perhaps infinity; `cast: {{…: text}}` loads the column as text"
    return [BadValue(index, "value.out_of_range", message) for index in pc.indices_nonzero(beyond).to_pylist()]


def _fitting(kind: Kind, values: pa.Array, misfits: list[BadValue]) -> pa.Array:
    if not misfits:
        return values
    bad = {misfit.index for misfit in misfits}
    return pc.if_else(pa.array([index not in bad for index in range(len(values))]), values, pa.scalar(None, values.type))


def _digits_of(data: ColumnData) -> tuple[int, int]:
    if not isinstance(data, list):
        return data.type.precision - data.type.scale, data.type.scale
    whole = fraction = 0
    for value in data:
        if value is not None:
            whole = max(whole, value.adjusted() + 1)
            fraction = max(fraction, -value.as_tuple().exponent)
    return whole, fraction


def _nulls(data: ColumnData) -> Any:
    if isinstance(data, list):
        return [index for index, value in enumerate(data) if value is None]
    return pc.indices_nonzero(data.is_null()).to_pylist() if data.null_count else []
