"""Parts of files as chunks of a run, with the values from their paths and their origin."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import pyarrow as pa

from ...records.column_records import ColumnRecords
from ...records.plain_values import as_records
from ...records.structure import TableShape
from ...shaping.typed_columns import typed_field
from ...sources.chunk import Chunk, Origin, UnreadableLine
from ...sources.files.formats.part import FilePart
from ...sources.files.problems import file_problem
from ...spec.files import FileColumns
from ...spec.times import format_time

_TYPES: dict[str, pa.DataType] = {
    "text": pa.string(), "int64": pa.int64(), "date": pa.date32(), "timestamp": pa.timestamp("us", "UTC"),
}  # fmt: skip


@dataclass(frozen=True)
class FileValues:
    """The values that every record of a file gets.

    Attributes:
        named: {column: (kind, value)} from the path.
    """

    path: str
    named: dict[str, tuple[str, Any]]
    columns: FileColumns

    def constants(self, member: str) -> dict[str, tuple[str, Any]]:
        """{column: (kind, value)} that all records of a file, or of a member of an archive, have."""
        noted: dict[str, tuple[str, Any]] = {self.columns.path: ("text", self.path)} if self.columns.path else {}
        if self.columns.member:
            noted[self.columns.member] = ("text", member or None)
        return {**self.named, **noted}


def require_columns(part: FilePart, values: FileValues, key: Sequence[str], structure: TableShape | None) -> None:
    """Check that a file belongs to the table, by its first records.

    Args:
        part: the first records of the file.
        values: what its records get in addition.
        key: fields of the table's key, as the files name them.
        structure: of the table as it was loaded before; None at first.

    Raises:
        FileProblem: no record has a field of the key, or no field is one of the table's.
    """
    columns = part.columns if part.columns is not None else getattr(part.records, "columns", None)
    names = list(columns.column_names) if columns is not None else list(dict.fromkeys(n for r in part.records for n in r))
    given = set(values.constants(part.member))
    if values.columns.line:
        given.add(values.columns.line)
    listed = ", ".join(names)[:300]
    missing = [field for field in key if not {field, field.partition(".")[0]} & {*names, *given}]
    if missing:
        words = f"none of the first {len(part)} records of {values.path} has the key, `{missing[0]}`; they have {listed}"
        fix = "replace it with the right file, exclude it from the pattern, or use the key's name in the files"
        raise file_problem("source.field_not_found", words, fix)
    known = {name for name in structure.root.fields if name not in given} if structure is not None else set()
    if known and not known & set(names):
        words = f"{values.path} has none of the table's columns; it has {listed}"
        raise file_problem("file.unreadable", words, "replace it with the right file, or exclude it from the pattern")


def chunk_of(part: FilePart, values: FileValues, number: int) -> Chunk:
    """One part of a file as a chunk.

    Args:
        number: the number of the file in the load.

    Raises:
        FileProblem: a column from the path has the name of a column in the file.
    """
    path = f"{values.path}/{part.member}" if part.member else values.path
    misfits: list[Any] = [UnreadableLine(path, number, one.line, one.code, one.message, one.text) for one in part.unread]
    origins = (Origin(len(part), number, path, part.lines),) if len(part) else ()
    return Chunk(_records(part, values), part.size, misfits, None, part.suspicious, None, origins)


def _records(part: FilePart, values: FileValues) -> Sequence[dict[str, Any]]:
    constants, line = values.constants(part.member), values.columns.line
    if part.columns is not None:
        return _typed(part, part.columns, constants, line, values.path)
    if isinstance(part.records, ColumnRecords):
        return _lane(part, part.records, constants, line, values.path)
    plain = {name: plain_value(value) for name, (_, value) in constants.items()}
    for record in part.records:
        for name, value in plain.items():
            _require_free(name in record, name, values.path)
            record[name] = value
    if line:
        for record, at in zip(part.records, part.lines()):
            _require_free(line in record, line, values.path)
            record[line] = at
    return part.records


def _typed(
    part: FilePart, table: pa.Table, constants: dict[str, tuple[str, Any]], line: str | None, path: str
) -> ColumnRecords:
    rows = table.num_rows
    for name, (kind, value) in constants.items():
        _require_free(name in table.column_names, name, path)
        field, column = typed_field(name, kind, pa.repeat(pa.scalar(value, _TYPES[kind]), rows))
        table = table.append_column(field, column)
    if line:
        _require_free(line in table.column_names, line, path)
        field, column = typed_field(line, "int64", pa.array(part.lines(), pa.int64()))
        table = table.append_column(field, column)
    return ColumnRecords(table, lambda: as_records(table), table.get_total_buffer_size())


def _lane(
    part: FilePart, records: ColumnRecords, constants: dict[str, tuple[str, Any]], line: str | None, path: str
) -> Sequence[dict[str, Any]]:
    """Columns of a part in the form in which JSON is expected. A column from the path may be known there already."""
    table, rows = records.columns, len(records)
    added = {name: plain_value(value) for name, (_, value) in constants.items()}
    for name, value in added.items():
        held = table.column(name) if name in table.column_names else None
        if held is not None:
            _require_free(held.null_count < rows, name, path)
            filled = pa.chunked_array([pa.repeat(pa.scalar(value, held.type), rows)])
            table = table.set_column(table.column_names.index(name), table.schema.field(name), filled)
        else:
            table = table.append_column(name, pa.repeat(pa.scalar(value), rows))
    if line:
        at = pa.array(part.lines(), pa.int64())
        if line in table.column_names:
            table = table.set_column(table.column_names.index(line), table.schema.field(line), at)
        else:
            table = table.append_column(line, at)

    def met() -> list[dict[str, Any]]:
        more = [{line: at} for at in part.lines()] if line else [{}] * rows
        return [{**record, **added, **own} for record, own in zip(records, more)]

    return ColumnRecords(table, met, records.held_bytes)


def _require_free(taken: bool, name: str, path: str) -> None:
    if taken:
        words = f"{path} has a column {name}, and the feed adds one of the same name"
        raise file_problem("file.name_taken", words, "use another name for the part of the path, or in `file_columns`")


def plain_value(value: Any) -> Any:
    """A value from a path, in the form it has in JSON."""
    if isinstance(value, datetime):
        return format_time(value)
    return value.isoformat() if isinstance(value, date) else value
