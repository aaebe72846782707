"""Parquet files that a warehouse may read by itself: every value is one that columns would bring, as the file itself says."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import IO, Any

import pyarrow as pa
import pyarrow.parquet as pq

from ....records.arrow import DIGITS_OF_128, kind_of_arrow
from ....shaping.typed_columns import typed_field

# A warehouse reads the pieces of a file (row groups) beside each other, and one piece by itself: of a larger one columns are 1.3 times
# as fast.
LARGEST_PIECE = 200_000
_KEYS_AT_ONCE = 65_536
_FIRST, _LAST = date(1, 1, 1), date(9999, 12, 31)


@dataclass
class ParquetWhole:
    """See load.warehouse.WholeFile. file: to be closed by whoever took it. empty: its columns as shape.typed takes them, without rows.
    key: fields."""

    path: str
    file: IO[bytes]
    rows: int
    empty: pa.Table
    key: Sequence[str]

    @property
    def place(self) -> str:
        """Where this very file is read, whatever is put under its name meanwhile."""
        return f"/proc/self/fd/{self.file.fileno()}"

    def keys(self, names: Sequence[str]) -> Iterator[pa.Table]:
        self.file.seek(0)
        for batch in pq.ParquetFile(self.file, pre_buffer=False).iter_batches(_KEYS_AT_ONCE, columns=list(self.key)):
            yield pa.Table.from_batches([batch]).select(list(self.key)).rename_columns(list(names))

    def unchanged(self) -> bool:
        told = os.fstat(self.file.fileno())
        return (told.st_size, told.st_mtime_ns) == self._as_opened

    def __post_init__(self) -> None:
        told = os.fstat(self.file.fileno())
        self._as_opened = (told.st_size, told.st_mtime_ns)


def parquet_whole(path: str, file: IO[bytes], key: Sequence[str]) -> ParquetWhole | None:
    """None where it comes faster in columns, or they have to be looked at: nested ones, times without zone, values that may be none of
    ours, a key that may be null. key: fields. Raises OSError, ArrowInvalid for what is no Parquet."""
    found = pq.ParquetFile(file, pre_buffer=False)
    schema, facts = found.schema_arrow, found.metadata
    if facts.num_row_groups == 1 and facts.num_rows > LARGEST_PIECE:
        return None
    if len(set(schema.names)) < len(schema.names) or not set(key) <= set(schema.names) or not len(schema):
        return None
    fields = [_empty(field) for field in schema]
    if any(field is None for field in fields) or not all(_within(facts, place, field) for place, field in enumerate(schema)):
        return None
    if not all(_never_null(facts, schema.names.index(name)) for name in key):
        return None
    known: list[Any] = fields
    empty = pa.Table.from_arrays([values for _, values in known], schema=pa.schema([field for field, _ in known]))
    return ParquetWhole(path, file, facts.num_rows, empty, key)


def _empty(field: pa.Field) -> tuple[pa.Field, pa.Array] | None:
    kind = field.type
    if pa.types.is_decimal128(kind) and kind.precision <= DIGITS_OF_128:
        return typed_field(field.name, "decimal", pa.array([], kind), kind.precision - kind.scale, kind.scale)
    if pa.types.is_timestamp(kind):
        # Finer ones are text where they do not fit, and those without a zone are of the source's.
        if kind.tz is None or kind.unit not in ("ms", "us"):
            return None
        return typed_field(field.name, "timestamp", pa.array([], pa.timestamp("us", "UTC")))
    plain = pa.types.is_boolean(kind) or pa.types.is_signed_integer(kind) or pa.types.is_floating(kind)
    if not (plain or pa.types.is_string(kind) or pa.types.is_date32(kind)):
        return None
    found = kind_of_arrow(kind)
    assert found is not None
    return typed_field(field.name, found[0], pa.array([], found[1] or kind))


def _never_null(facts: pq.FileMetaData, place: int) -> bool:
    """As the file says; False where it does not."""
    said = [facts.row_group(number).column(place).statistics for number in range(facts.num_row_groups)]
    return all(one is not None and one.has_null_count and one.null_count == 0 for one in said)


def _within(facts: pq.FileMetaData, place: int, field: pa.Field) -> bool:
    """Whether all days and times lie in the years that every warehouse holds. False where the file does not say."""
    if not (pa.types.is_timestamp(field.type) or pa.types.is_date32(field.type)):
        return True
    for number in range(facts.num_row_groups):
        said = facts.row_group(number).column(place).statistics
        if said is None or not said.has_min_max:
            return False
        try:
            bounds = [bound.date() if isinstance(bound, datetime) else bound for bound in (said.min, said.max)]
        except (OverflowError, ValueError):
            return False
        if not all(isinstance(bound, date) and _FIRST <= bound <= _LAST for bound in bounds):
            return False
    return True
