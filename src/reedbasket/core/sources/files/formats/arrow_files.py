"""Parquet and Arrow files, whose columns have declared types."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from typing_extensions import override

from ....records.arrow import kind_of_arrow
from ....records.local_times import in_utc
from ....shaping.typed_columns import typed_field
from ..problems import FileProblem, file_problem
from .part import FilePart
from .reading import FormatReader

_ROWS_AT_ONCE = 8_192
_NESTED = (pa.types.is_struct, pa.types.is_list, pa.types.is_large_list, pa.types.is_map, pa.types.is_fixed_size_list)


class ParquetFiles(FormatReader):
    """See reading.FormatReader."""

    @override
    def read(self, content: Any, path: str) -> Iterator[FilePart]:
        yield from _parquet(content, path, self._reading.columns.zone)


class ArrowFiles(FormatReader):
    """Arrow IPC, as a file or as a stream; see reading.FormatReader."""

    @override
    def read(self, content: Any, path: str) -> Iterator[FilePart]:
        yield from read_arrow(content, path, self._reading.columns.zone)


def _parquet(content: Any, path: str, zone: str) -> Iterator[FilePart]:
    try:
        with pq.ParquetFile(content, pre_buffer=False) as file:
            yield from _parts(file.iter_batches(_ROWS_AT_ONCE), zone)
    except (pa.ArrowInvalid, OSError) as error:
        raise _unreadable(path, "Parquet", error) from None


def read_arrow(content: Any, path: str, zone: str) -> Iterator[FilePart]:
    """The records of Arrow IPC, as a file or as a stream.

    Args:
        content: seekable.

    Raises:
        FileProblem: the file cannot be read.
    """
    try:
        if content.read(6) == b"ARROW1":
            content.seek(0)
            opened = pa.ipc.open_file(content)
            yield from _parts((opened.get_batch(n) for n in range(opened.num_record_batches)), zone)
        else:
            content.seek(0)
            yield from _parts(iter(pa.ipc.open_stream(content)), zone)
    except (pa.ArrowInvalid, OSError) as error:
        raise _unreadable(path, "Arrow", error) from None


def _unreadable(path: str, what: str, error: Exception) -> FileProblem:
    if isinstance(error, OSError) and error.errno is not None:
        raise error
    return file_problem("file.damaged", f"{path} cannot be read as {what}: {error}", "replace it with the whole file")


def _parts(batches: Iterator[pa.RecordBatch], zone: str) -> Iterator[FilePart]:
    begun = 0
    for batch in batches:
        for start in range(0, batch.num_rows, _ROWS_AT_ONCE):
            some = batch.slice(start, _ROWS_AT_ONCE)
            first = begun + start + 1
            lines = range(first, first + some.num_rows)
            nested = any(is_one(field.type) for field in some.schema for is_one in _NESTED)
            table = None if nested else _columns(some, zone)
            records = _records(some, zone) if nested else []
            yield FilePart(table, records, lambda lines=lines: lines, some.nbytes)  # type: ignore[misc]
        begun += batch.num_rows


def _columns(batch: pa.RecordBatch, zone: str) -> pa.Table:
    fields = [_column(field.name, values, zone) for field, values in zip(batch.schema, batch.columns)]
    return pa.Table.from_arrays([values for _, values in fields], schema=pa.schema([field for field, _ in fields]))


def _column(name: str, values: Any, zone: str) -> tuple[pa.Field, Any]:
    if pa.types.is_dictionary(values.type):
        values = values.dictionary_decode()
    if isinstance(values, pa.ExtensionArray):
        values = values.storage
    if pa.types.is_timestamp(values.type):
        return typed_field(name, *_times(values, zone))
    if pa.types.is_date64(values.type):
        values = values.cast(pa.date32())
    if pa.types.is_large_binary(values.type) or pa.types.is_fixed_size_binary(values.type) or values.type == pa.binary_view():
        values = values.cast(pa.binary())
    if values.type == pa.string_view():
        values = values.cast(pa.string())
    found = kind_of_arrow(values.type)
    if pa.types.is_null(values.type):
        return typed_field(name, "null", values.cast(pa.string()))
    if found is None:  # times of day, durations, intervals
        return typed_field(name, "text", pa.array([None if v is None else str(v) for v in values.to_pylist()], pa.string()))
    kind, wanted = found
    if kind == "decimal":
        values = values.cast(wanted) if wanted is not None else values
        return typed_field(name, kind, values, values.type.precision - values.type.scale, values.type.scale)
    return typed_field(name, kind, values.cast(wanted) if wanted is not None and wanted != values.type else values)


def _times(values: Any, zone: str) -> tuple[str, Any]:
    if values.type.tz is None:
        values = in_utc(values, zone)
    try:
        return "timestamp", values.cast(pa.timestamp("us", "UTC"))
    except pa.ArrowInvalid:  # finer than microseconds
        return "text", pc.strftime(values.cast(pa.timestamp("ns", "UTC")), "%Y-%m-%dT%H:%M:%SZ")


def _records(batch: pa.RecordBatch, zone: str) -> list[dict[str, Any]]:
    """Records with others inside, as JSON would bring them."""
    flat: list[str] = []
    nested: list[str] = []
    for field in batch.schema:
        (nested if any(is_one(field.type) for is_one in _NESTED) else flat).append(field.name)
    from ....records.plain_values import as_records

    plain = as_records(_columns(batch.select(flat), zone)) if flat else [{} for _ in range(batch.num_rows)]
    for name in nested:
        for record, value in zip(plain, batch.column(name).to_pylist(maps_as_pydicts="strict")):
            record[name] = json.loads(json.dumps(value, default=_as_json))
    return [{name: record[name] for name in batch.schema.names} for record in plain]


def _as_json(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.hex()
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
