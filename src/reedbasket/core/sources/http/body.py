"""Bodies of every format, opened: the records in them, a part at a time, and what stands around."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from xml.parsers.expat import ExpatError

import jmespath
import pyarrow as pa
import pyarrow.csv as pa_csv
import xmltodict

from ...errors import Incomplete
from ...records import json_body
from ...spec.http import Format, HttpTable
from .. import big_json
from ..html import is_html
from ..json_columns import ColumnBodies
from .records import objects_of, pick_records

_CHARSET = re.compile(r"""charset\s*=\s*"?([^\s;"]+)""", re.IGNORECASE)
_MARK = b"\xef\xbb\xbf"
_UTF16_MARKS = (b"\xff\xfe", b"\xfe\xff")
_UTF8 = ("utf-8", "utf8", "us-ascii", "ascii")


# Of a CSV without an end of its last line, what is looked at from its end. Longer values are parsed with the rest.
_LONGEST_TAIL = 64 * 1024
# A body without anything in it is not longer.
_SHORT = 1024
# Records of a large CSV or NDJSON handed on at once.
_ROWS_AT_ONCE = 5_000


@dataclass(frozen=True)
class Part:
    """Some of the records of a body. suspicious: their text may hold lone surrogates. misfits: what no record could be made of, as
    it came. body_bytes: of the body, about."""

    records: Sequence[dict[str, Any]]
    misfits: list[Any]
    suspicious: bool
    body_bytes: int


@dataclass(frozen=True)
class Opened:
    """A body. envelope: what stands around the records, with them where the body is small. parts: to be gone through once."""

    envelope: Any
    parts: Iterator[Part]


class Opener:
    """Opens the bodies of one table."""

    def __init__(self, rule: HttpTable, doing: str, columns: ColumnBodies | None = None, fields: Sequence[str] = ()) -> None:
        """columns: reads those that are as expected. fields: what records have to have; a first line without any of them is none."""
        self._columns = columns
        self._fields = fields
        self._empty = rule.missing_means_empty
        self._errors = jmespath.compile(rule.errors).search if rule.errors else None
        self._form = rule.format
        self._path = rule.records
        self._find = jmespath.compile(rule.records).search
        self._doing = doing

    def open(self, raw: bytes, headers: Mapping[str, str]) -> Opened:
        """Raises ValueError, RecursionError for what cannot be read, here or while the parts are gone through; Incomplete,
        RecordsNotFound."""
        said = _CHARSET.search(headers.get("content-type", ""))
        charset = said[1].lower() if said else None
        # What a body says of itself goes before what is said of it (WHATWG Encoding, section 6). UTF-32 begins as UTF-16 does.
        if raw[:2] in _UTF16_MARKS:
            charset = "utf-32" if raw[2:4] == b"\0\0" else "utf-16"
        form = self._form.type
        _require_kind(raw, headers.get("content-type", ""), form)
        if self._empty and len(raw) < _SHORT and not raw.strip():
            return Opened(None, iter(()))
        if form == "csv":
            return Opened(None, _csv(raw, self._form, charset or self._form.encoding, self._fields))
        if form == "xml":
            body = _xml(raw)
            self._require_no_errors(body)
            records, misfits = pick_records(self._find, self._path, body, self._doing, lone=True, empty=self._empty)
            return Opened(body, iter([Part(records, misfits, False, len(raw))]))
        if charset is not None and charset not in _UTF8:
            try:
                raw = raw.decode(charset).removeprefix("\ufeff").encode("utf-8")
            except LookupError:
                raise ValueError(f"the answer says charset={charset}, which nobody knows") from None
        if raw.startswith(_MARK):  # a large body would be copied even where it has none
            raw = raw[len(_MARK) :]
        if form == "ndjson":
            return Opened(None, self._without_errors(_ndjson(raw)))
        if len(raw) > big_json.LARGE_BYTES and big_json.can_split(self._path):
            return self._open_large(raw)
        opened = self._columns.open(raw) if self._columns else None
        if opened is not None:
            return Opened(opened[0], iter([Part(opened[1], [], False, len(raw))]))
        body, suspicious = _json(raw)
        self._require_no_errors(body)
        records, misfits = pick_records(self._find, self._path, body, self._doing, empty=self._empty)
        if self._columns:
            self._columns.learn(body)
        return Opened(body, iter([Part(records, misfits, suspicious, len(raw))]))

    def _without_errors(self, parts: Iterator[Part]) -> Iterator[Part]:
        """Lines that have nothing of a record, and say what went wrong, stand for those that did not come."""
        for part in parts:
            for record in part.records if self._fields and self._errors else ():
                if not any(field in record for field in self._fields):
                    self._require_no_errors(record)
            yield part

    def _require_no_errors(self, body: Any) -> None:
        """Raises Incomplete where the answer says that something went wrong, beside records or in their place."""
        found = self._errors(body) if self._errors is not None and isinstance(body, dict) else None
        if found:
            raise Incomplete(
                self._doing,
                found=f"the answer reports an error: {json.dumps(found, ensure_ascii=False, default=str)[:300]}",
                fix="ask whoever runs the source; if that field is no error, name the one that is in the connector "
                "(`errors: PATH`), or set `errors: null`",
                code="source.said_error",
            )

    def _open_large(self, raw: bytes) -> Opened:
        around, places = big_json.split(raw, self._path)

        def parts() -> Iterator[Part]:
            for start, end in places:
                found, suspicious = _json(b"[" + raw[start:end] + b"]")
                yield Part(*objects_of(found), suspicious, end - start)

        envelope = _json(around)[0]
        self._require_no_errors(envelope)
        return Opened(envelope, parts())


def _json(raw: bytes) -> tuple[Any, bool]:
    try:
        return json_body.parse(raw)
    except UnicodeDecodeError:
        # Bytes that are no UTF-8 become lone surrogates, so that only the records that hold them are rejected.
        return json_body.parse(raw.decode("utf-8", "surrogateescape").encode("utf-8", "surrogatepass"))


def _require_kind(raw: bytes, content_type: str, form: str) -> None:
    """Raises ValueError for an answer of another kind: by what it says it is, or by how it begins. Types are often said wrong among the
    kinds of data, and never for a page of HTML."""
    kind = content_type.partition(";")[0].strip().lower()
    if kind in ("text/html", "application/xhtml+xml"):
        raise ValueError(f"it says that it is {kind}")
    start = raw[:512].removeprefix(_MARK).lstrip()[:64].lower()
    if is_html(raw[:512]):
        raise ValueError("it is a page of HTML")
    if form == "csv" and start[:1] in (b"{", b"[", b"<"):
        raise ValueError("it is no table")
    if form in ("json", "xml") and not start:
        raise ValueError("it is empty; if that means that there are no records, say `missing_means_empty: true`")


def _ndjson(raw: bytes) -> Iterator[Part]:
    """A line that is no JSON is a misfit; the others are good all the same. Of the last, without a line's end, it is told that more
    should have come."""
    lines = [line for line in raw.split(b"\n") if line.strip()]
    if lines and not any(_is_json(line) for line in lines[:100]):
        raise ValueError("its lines are no JSON")
    if lines and not raw.endswith(b"\n") and not _is_json(lines[-1]):
        raise ValueError("its last line ends too soon")
    return _ndjson_parts(lines)


def _ndjson_parts(lines: list[bytes]) -> Iterator[Part]:
    for start in range(0, len(lines), _ROWS_AT_ONCE):
        some = lines[start : start + _ROWS_AT_ONCE]
        size = sum(map(len, some))
        try:
            found, suspicious = _json(b"[" + b",".join(some) + b"]")
            yield Part(*objects_of(found), suspicious, size)
        except ValueError:
            good = [line for line in some if _is_json(line)]
            bad = [line.decode("utf-8", "replace") for line in some if not _is_json(line)]
            found, suspicious = _json(b"[" + b",".join(good) + b"]")
            records, misfits = objects_of(found)
            yield Part(records, misfits + bad, suspicious, size)


def _is_json(line: bytes) -> bool:
    try:
        _json(line)
    except ValueError:
        return False
    return True


def _csv(raw: bytes, form: Format, encoding: str, fields: Sequence[str]) -> Iterator[Part]:
    """Every value as text, or null where nothing stands; "" is empty text. Lines of another length are misfits. fields: see Opener."""
    try:
        text = raw.decode(encoding).removeprefix("\ufeff")
    except LookupError:
        raise ValueError(f"the encoding {encoding} is not known") from None
    header = next(csv.reader(io.StringIO(text, newline=""), delimiter=form.delimiter, quotechar=form.quote), None)
    if not header:
        raise ValueError(
            "it has no first line of columns; if that means that there are no records, say `missing_means_empty: true`"
        )
    lacking = [field for field in fields if field not in header]
    if lacking:
        raise ValueError(f"its first line has no column {', '.join(lacking)}: {', '.join(header)[:200]}")
    _require_last_line(text, len(header), form)
    return _csv_parts(text, len(raw), header, form)


def _require_last_line(text: str, columns: int, form: Format) -> None:
    """Raises ValueError where the last line has no end, and less in it than a line has."""
    if text.endswith(("\n", "\r")):
        return
    tail = text[text.rfind("\n", 0, max(0, len(text) - _LONGEST_TAIL)) + 1 :]
    if text.count(form.quote) % 2:
        raise ValueError("it ends in the middle of a quoted value")
    rows = list(csv.reader(io.StringIO(tail, newline=""), delimiter=form.delimiter, quotechar=form.quote))
    if rows and len(rows[-1]) < columns:
        raise ValueError(f"its last line ends too soon, with {len(rows[-1])} of {columns} values")


def _csv_parts(text: str, size_bytes: int, header: Sequence[str], form: Format) -> Iterator[Part]:
    if len(set(header)) < len(header):
        raise ValueError(f"a column's name stands twice in the header: {', '.join(header)[:200]}")
    misfits: list[str] = []
    if not text.endswith(("\n", "\r")):
        text += "\n"  # the parser takes a header alone, without it, for nothing

    def odd(row: pa_csv.InvalidRow) -> str:
        misfits.append(row.text)
        return "skip"

    try:
        table = pa_csv.read_csv(
            pa.BufferReader(text.encode("utf-8")),
            read_options=pa_csv.ReadOptions(use_threads=False),
            parse_options=pa_csv.ParseOptions(
                delimiter=form.delimiter, quote_char=form.quote, newlines_in_values=True, invalid_row_handler=odd
            ),
            convert_options=pa_csv.ConvertOptions(
                column_types={name: pa.string() for name in header},
                null_values=[""],
                strings_can_be_null=True,
                quoted_strings_can_be_null=False,
            ),
        )
    except pa.ArrowInvalid as error:
        raise ValueError(str(error)) from error
    size = size_bytes // max(1, -(-table.num_rows // _ROWS_AT_ONCE))
    for start in range(0, max(1, table.num_rows), _ROWS_AT_ONCE):
        yield Part(table.slice(start, _ROWS_AT_ONCE).to_pylist(), misfits, False, size)
        misfits = []


def _xml(raw: bytes) -> Any:
    """Elements as objects: attributes and elements by name, several of one name as a list, text alone as text."""
    try:
        return xmltodict.parse(raw, attr_prefix="", cdata_key="text")
    except ExpatError as error:
        raise ValueError(str(error)) from error
