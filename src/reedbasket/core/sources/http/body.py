"""Parsing bodies of every format: the records in them, a part at a time, and what surrounds them."""

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
    """Some of the records of a body.

    Attributes:
        suspicious: the text may contain lone surrogates.
        misfits: whatever is not a record, as it arrived.
        body_bytes: about how many bytes of the body this is.
    """

    records: Sequence[dict[str, Any]]
    misfits: list[Any]
    suspicious: bool
    body_bytes: int


@dataclass(frozen=True)
class OpenBody:
    """A parsed body.

    Attributes:
        envelope: what surrounds the records; includes them if the body is small.
        parts: the records; can be iterated once.
    """

    envelope: Any
    parts: Iterator[Part]


class BodyOpener:
    """Parses the bodies of one table."""

    def __init__(self, rule: HttpTable, doing: str, columns: ColumnBodies | None = None, fields: Sequence[str] = ()) -> None:
        """Prepare to parse.

        Args:
            columns: reads records directly into columns if they are as expected.
            fields: the fields that records must have; a first line without any of them is not a header.
        """
        self._columns = columns
        self._fields = fields
        self._empty = rule.missing_means_empty
        self._errors = jmespath.compile(rule.errors).search if rule.errors else None
        self._form = rule.format
        self._path = rule.records
        self._find = jmespath.compile(rule.records).search
        self._doing = doing

    def open(self, raw: bytes, headers: Mapping[str, str]) -> OpenBody:
        """Parse a body.

        Raises:
            ValueError: it cannot be read; also while the parts are iterated, like RecursionError.
            Incomplete: the answer contains an error.
            RecordsNotFound: there are no records where they should be.
        """
        said = _CHARSET.search(headers.get("content-type", ""))
        charset = said[1].lower() if said else None
        # What a body says of itself goes before what is said of it (WHATWG Encoding, section 6). UTF-32 begins as UTF-16 does.
        if raw[:2] in _UTF16_MARKS:
            charset = "utf-32" if raw[2:4] == b"\0\0" else "utf-16"
        form = self._form.type
        _require_kind(raw, headers.get("content-type", ""), form)
        if self._empty and len(raw) < _SHORT and not raw.strip():
            return OpenBody(None, iter(()))
        if form == "csv":
            return OpenBody(None, _csv(raw, self._form, charset or self._form.encoding, self._fields))
        if form == "xml":
            body = _xml(raw)
            self._require_no_errors(body)
            records, misfits = pick_records(self._find, self._path, body, self._doing, lone=True, empty=self._empty)
            return OpenBody(body, iter([Part(records, misfits, False, len(raw))]))
        if charset is not None and charset not in _UTF8:
            try:
                raw = raw.decode(charset).removeprefix("\ufeff").encode("utf-8")
            except LookupError:
                raise ValueError(f"the answer has charset={charset}, which is unknown") from None
        if raw.startswith(_MARK):  # a large body would be copied even where it has none
            raw = raw[len(_MARK) :]
        if form == "ndjson":
            return OpenBody(None, self._without_errors(_ndjson(raw)))
        if len(raw) > big_json.LARGE_BYTES and big_json.can_split(self._path):
            return self._open_large(raw)
        opened = self._columns.open(raw) if self._columns else None
        if opened is not None:
            return OpenBody(opened[0], iter([Part(opened[1], [], False, len(raw))]))
        body, suspicious = _json(raw)
        self._require_no_errors(body)
        records, misfits = pick_records(self._find, self._path, body, self._doing, empty=self._empty)
        if self._columns:
            self._columns.learn(body)
        return OpenBody(body, iter([Part(records, misfits, suspicious, len(raw))]))

    def _without_errors(self, parts: Iterator[Part]) -> Iterator[Part]:
        """Lines that have no field of a record and report an error count as records that are missing."""
        for part in parts:
            for record in part.records if self._fields and self._errors else ():
                if not any(field in record for field in self._fields):
                    self._require_no_errors(record)
            yield part

    def _require_no_errors(self, body: Any) -> None:
        """Check that the answer reports no error, beside the records or in their place.

        Raises:
            Incomplete: it does.
        """
        found = self._errors(body) if self._errors is not None and isinstance(body, dict) else None
        if found:
            raise Incomplete(
                self._doing,
                found=f"the answer reports an error: {json.dumps(found, ensure_ascii=False, default=str)[:300]}",
                fix="ask whoever runs the source; if that field is not an error, name the right one in the connector "
                "(`errors: PATH`), or set `errors: null`",
                code="source.error_in_answer",
            )

    def _open_large(self, raw: bytes) -> OpenBody:
        around, places = big_json.split(raw, self._path)

        def parts() -> Iterator[Part]:
            for start, end in places:
                found, suspicious = _json(b"[" + raw[start:end] + b"]")
                yield Part(*objects_of(found), suspicious, end - start)

        envelope = _json(around)[0]
        self._require_no_errors(envelope)
        return OpenBody(envelope, parts())


def _json(raw: bytes) -> tuple[Any, bool]:
    try:
        return json_body.parse(raw)
    except UnicodeDecodeError:
        # Bytes that are no UTF-8 become lone surrogates, so that only the records that hold them are rejected.
        return json_body.parse(raw.decode("utf-8", "surrogateescape").encode("utf-8", "surrogatepass"))


def _require_kind(raw: bytes, content_type: str, form: str) -> None:
    """Check that an answer is of the declared kind, by its content type and by its beginning. Content types are often wrong among data
    formats, but never for an HTML page.

    Raises:
        ValueError: it is of another kind.
    """
    kind = content_type.partition(";")[0].strip().lower()
    if kind in ("text/html", "application/xhtml+xml"):
        raise ValueError(f"it says that it is {kind}")
    start = raw[:512].removeprefix(_MARK).lstrip()[:64].lower()
    if is_html(raw[:512]):
        raise ValueError("it is an HTML page")
    if form == "csv" and start[:1] in (b"{", b"[", b"<"):
        raise ValueError("it is not a table")
    if form in ("json", "xml") and not start:
        raise ValueError("it is empty; if that means that there are no records, say `missing_means_empty: true`")


def _ndjson(raw: bytes) -> Iterator[Part]:
    """One record per line. A line that is not JSON is a misfit, and the others are still good. If the last line has no line break, more
    may be missing.
    """
    lines = [line for line in raw.split(b"\n") if line.strip()]
    if lines and not any(_is_json(line) for line in lines[:100]):
        raise ValueError("its lines are not JSON")
    if lines and not raw.endswith(b"\n") and not _is_json(lines[-1]):
        raise ValueError("its last line is cut off")
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
    """Every value is text, or null if nothing is there; "" is empty text. Lines of another length are misfits.

    Args:
        fields: see BodyOpener.
    """
    try:
        text = raw.decode(encoding).removeprefix("\ufeff")
    except LookupError:
        raise ValueError(f"the encoding {encoding} is not known") from None
    header = next(csv.reader(io.StringIO(text, newline=""), delimiter=form.delimiter, quotechar=form.quote), None)
    if not header:
        raise ValueError("it has no header; if that means that there are no records, say `missing_means_empty: true`")
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
        raise ValueError(f"its last line is cut off, with {len(rows[-1])} of {columns} values")


def _csv_parts(text: str, size_bytes: int, header: Sequence[str], form: Format) -> Iterator[Part]:
    if len(set(header)) < len(header):
        raise ValueError(f"a column's name occurs twice in the header: {', '.join(header)[:200]}")
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
    """Elements as objects: attributes and elements by name, repeated ones as a list, an element with nothing but text as text."""
    try:
        return xmltodict.parse(raw, attr_prefix="", cdata_key="text")
    except ExpatError as error:
        raise ValueError(str(error)) from error
