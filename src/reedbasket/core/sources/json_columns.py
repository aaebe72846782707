"""Reading JSON bodies directly into columns once their structure is known, by pyarrow, which parses without holding Python's lock.
Whatever is not exactly as expected is left to the parser that accepts anything (json_body).

If pyarrow has to guess, it turns text that looks like a time into a time, and integers into rounded doubles. So it never guesses: the
record's type comes from the structure learned, and the type of what surrounds the records from a body parsed before.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import jmespath
import pyarrow as pa
import pyarrow.json as pa_json

from ..records import json_body
from ..records.column_records import ColumnRecords
from ..shaping.fast_path import ExpectedColumns
from .big_json import LARGE_BYTES, can_split

_SCALARS: dict[type, pa.DataType] = {str: pa.string(), int: pa.int64(), float: pa.float64(), bool: pa.bool_()}
# A list of records alone is given a name, for pyarrow reads objects only.
_ALONE = "_"


class ColumnBodies:
    """The bodies of one table.

    Args:
        wanted: the columns that records are expected to have.
        path: to the list of records.
        told: paths to what pagination needs (a token, a total), whose types must be known before.
    """

    def __init__(self, wanted: Callable[[], ExpectedColumns | None], path: str, told: Sequence[str]) -> None:
        self._wanted = wanted
        self._path = [_ALONE] if path == "@" else path.split(".")
        self._told = told
        self._possible = can_split(path) and all(can_split(one) for one in told) and not (path == "@" and told)
        self._envelope: dict[str, Any] | None = None
        self._made: tuple[ExpectedColumns, pa.Schema] | None = None

    def learn(self, body: Any) -> None:
        """Learn what surrounds the records from one body."""
        if not self._possible or self._envelope is not None:
            return
        if self._path == [_ALONE]:
            self._envelope = {}
        elif isinstance(body, dict) and not any(jmespath.search(path, body) is None for path in self._told):
            around = _around(body, self._path)
            # What went wrong, if anything, is looked at in the parsed body.
            if around is not None and all(around.get(name, pa.null()) == pa.null() for name in ("error", "errors")):
                self._envelope = around

    def open(self, raw: bytes) -> tuple[Any, ColumnRecords] | None:
        """(what surrounds the records, the records)."""
        wanted = self._wanted() if self._possible and self._envelope is not None else None
        if wanted is None or len(raw) > LARGE_BYTES or not json_body.is_short(raw):
            return None
        alone = self._path == [_ALONE]
        text = b'{"' + _ALONE.encode() + b'":' + raw + b"}" if alone else raw
        try:
            table = pa_json.read_json(
                pa.BufferReader(text),
                read_options=pa_json.ReadOptions(use_threads=False, block_size=len(text) + 1),
                parse_options=pa_json.ParseOptions(
                    explicit_schema=self._schema(wanted), newlines_in_values=True, unexpected_field_behavior="infer"
                ),
            )
            table.validate(full=True)  # pyarrow takes bytes that are no UTF-8
            return self._opened(table, raw, wanted)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError, UnicodeDecodeError):
            return None

    def _opened(self, table: pa.Table, raw: bytes, wanted: ExpectedColumns) -> tuple[Any, ColumnRecords] | None:
        if table.num_rows != 1 or not _only(self._envelope or {}, table.schema, self._path):
            return None
        place: Any = table.column(self._path[0]).combine_chunks()
        for name in self._path[1:]:
            place = place.field(name)
        if place.null_count or not pa.types.is_list(place.type):
            return None
        records = place.flatten()
        extra = {field.name for field in records.type} - {field.name for field in wanted.record}
        if records.null_count or not extra <= wanted.ignored:
            return None
        fields = [(field.name, values) for field, values in zip(records.type, records.flatten()) if field.name not in extra]
        if not pa.struct([(name, values.type) for name, values in fields]).equals(wanted.record):
            return None
        columns = pa.table(dict(fields))
        return self._read_around(table), ColumnRecords(columns, lambda: self._as_met(raw), len(raw))

    def _as_met(self, raw: bytes) -> list[dict[str, Any]]:
        found = json_body.parse(raw)[0]
        for name in [] if self._path == [_ALONE] else self._path:
            found = found[name]
        listed: list[dict[str, Any]] = found
        return listed

    def _read_around(self, table: pa.Table) -> Any:
        """What stands around the records: {name: {name: value}}."""
        columns = {name: table.column(name).combine_chunks() for name in self._envelope or {}}
        return _read(self._envelope or {}, columns)

    def _schema(self, wanted: ExpectedColumns) -> pa.Schema:
        if self._made is None or self._made[0] is not wanted:
            assert self._envelope is not None
            self._made = (wanted, _schema_of(self._envelope, self._path, wanted.record))
        return self._made[1]


def _around(body: dict[str, Any], path: Sequence[str]) -> dict[str, Any] | None:
    """{name: type, or the same for an object}, without the list at the path; None if there is anything but objects and single values."""
    found: dict[str, Any] = {}
    for name, value in body.items():
        on_way = bool(path) and name == path[0]
        if on_way and len(path) == 1:
            continue
        if isinstance(value, dict):
            inner = _around(value, path[1:] if on_way else ())
            if inner is None:
                return None
            found[name] = inner
        elif value is None or type(value) in _SCALARS:
            found[name] = pa.null() if value is None else _SCALARS[type(value)]
        else:
            return None
    return found


def _only(around: dict[str, Any], fields: Any, path: Sequence[str]) -> bool:
    """Whether nothing stands around the records that did not stand there before."""
    for field in fields:
        on_way = bool(path) and field.name == path[0]
        if on_way and len(path) == 1:
            continue
        kind = around.get(field.name)
        if kind is None or (isinstance(kind, dict) and not _only(kind, field.type, path[1:] if on_way else ())):
            return False
    return True


def _read(around: dict[str, Any], columns: Mapping[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, kind in around.items():
        values = columns[name]
        if isinstance(kind, dict):
            inner = {field.name: values.field(field.name) for field in values.type if field.name in kind}
            found[name] = _read(kind, inner) if values.is_valid()[0].as_py() else None
        else:
            found[name] = values[0].as_py()
    return found


def _schema_of(around: dict[str, Any], path: Sequence[str], record: pa.StructType) -> pa.Schema:
    return pa.schema(list(_struct_of(around, path, record)))


def _struct_of(around: dict[str, Any], path: Sequence[str], record: pa.StructType) -> pa.StructType:
    fields = []
    for name, kind in around.items():
        on_way = bool(path) and name == path[0]
        fields.append((name, _struct_of(kind, path[1:] if on_way else (), record) if isinstance(kind, dict) else kind))
    if len(path) == 1:
        fields.append((path[0], pa.list_(record)))
    return pa.struct(fields)
