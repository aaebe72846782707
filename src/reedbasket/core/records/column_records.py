"""Records that arrived as columns, and can still be had one by one as they arrived."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from itertools import chain, compress
from typing import Any, overload

import pyarrow as pa
import pyarrow.compute as pc

Record = dict[str, Any]


class ColumnRecords(Sequence[Record]):
    """Records as a table of columns. As a sequence, they are what the source sent, made only when one of them is needed, which is rare: a
    reject, or a record at the edge of a cursor.

    Attributes:
        columns: as they were read.
        met: makes all records as they arrived, in the same number and order.
        held_bytes: what `met` keeps in memory.
    """

    # Whether several may be put one behind the other without losing anything.
    joinable = True

    def __init__(self, columns: pa.Table, met: Callable[[], Sequence[Record]], held_bytes: int) -> None:
        self.columns = columns
        self.held_bytes = held_bytes
        self._met = met

    def __len__(self) -> int:
        return int(self.columns.num_rows)

    @overload
    def __getitem__(self, place: int) -> Record: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Record]: ...
    def __getitem__(self, place: int | slice) -> Record | Sequence[Record]:
        return self._as_met[place]

    def column(self, name: str) -> pa.ChunkedArray | None:
        """A column by the source's name for it, or one inside objects by a path with dots."""
        if name in self.columns.column_names:
            return self.columns.column(name)
        first, *inside = name.split(".")
        found = self.columns.column(first) if inside and first in self.columns.column_names else None
        for step in inside:
            if found is None or not pa.types.is_struct(found.type) or found.type.get_field_index(step) < 0:
                return None
            found = pc.struct_field(found, [step])
        return found

    def filter(self, keep: Sequence[bool]) -> ColumnRecords:
        """Some of the records; keep: whether each is kept."""
        # Made once for all that is chosen of them.
        return ColumnRecords(
            self.columns.filter(pa.array(keep, pa.bool_())), lambda: list(compress(self._as_met, keep)), self.held_bytes
        )

    @cached_property
    def _as_met(self) -> Sequence[Record]:
        return self._met()


def value_at(record: Any, name: str) -> Any:
    """The value of a field, or of one inside objects by a path with dots; None if there is nothing."""
    if not isinstance(record, dict) or name in record or "." not in name:
        return record.get(name) if isinstance(record, dict) else None
    for step in name.split("."):
        record = record.get(step) if isinstance(record, dict) else None
    return record


def chosen(records: Sequence[Record], keep: Sequence[bool]) -> Sequence[Record]:
    """Some of the records, in the form in which they arrived."""
    return records.filter(keep) if isinstance(records, ColumnRecords) else list(compress(records, keep))


def joined(parts: Sequence[Sequence[Record]]) -> Sequence[Record]:
    """Several parts joined: as columns if `same_form` holds for all of them, otherwise one by one."""
    columns = [part for part in parts if isinstance(part, ColumnRecords)]
    if columns and len(columns) == len(parts) and all(same_form(part, parts[0]) for part in parts):
        table = pa.concat_tables([part.columns for part in columns])
        held = sum(part.held_bytes for part in columns)
        return ColumnRecords(table, lambda: list(chain.from_iterable(columns)), held)
    return list(chain.from_iterable(parts))


def same_form(some: Sequence[Record], others: Sequence[Record]) -> bool:
    """Whether both arrived in the same form: one by one, or in columns of the same types."""
    if isinstance(some, ColumnRecords) and isinstance(others, ColumnRecords):
        return (
            some.joinable and others.joinable and bool(some.columns.schema.equals(others.columns.schema, check_metadata=True))
        )
    return isinstance(some, ColumnRecords) == isinstance(others, ColumnRecords)
