"""JSON in files: a value on each line, or one document with a list of records."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import jmespath
from typing_extensions import override

from ....records import json_body
from ... import big_json
from ...json_columns import ColumnBodies
from ..problems import file_problem
from .blocks import in_utf8, whole_lines
from .options import JsonFormat
from .part import FilePart, UnreadablePart
from .reading import FormatReader, ReadingContext

# A document is held whole while it is read.
_LARGEST_DOCUMENT = 100 * 1024 * 1024
_AT_ONCE = 2_000


class LineFiles(FormatReader):
    """A JSON value on each line; if it is as expected, it is read directly into columns."""

    def __init__(self, reading: ReadingContext) -> None:
        super().__init__(reading)
        self._columns = ColumnBodies(reading.expected, "@", [])
        self._columns.learn([])

    @override
    def read(self, content: Iterator[bytes], path: str) -> Iterator[FilePart]:
        line = 1
        for block in whole_lines(in_utf8(content, "utf-8", path), None, ",", path):
            if not block.endswith(b"\n"):
                _require_last_line(block, path)
            part = self._block(block, line)
            if line == 1 and part.unread and not len(part):
                raise file_problem(
                    "file.unreadable",
                    f"no line of {path} is a record; the first is {part.unread[0].text[:80]!r}",
                    "replace it with a file with one JSON object on each line, or give the file's `format`",
                )
            yield part
            line += block.count(b"\n")

    def _block(self, block: bytes, line: int) -> FilePart:
        rows = block.split(b"\n")
        kept = [(line + place, row) for place, row in enumerate(rows) if row and not row.isspace()]
        raw = b"[" + b",".join([row for _, row in kept]) + b"]"
        read = self._columns.open(raw)
        lines = [at for at, _ in kept]
        if read is not None:
            # The records as they came are made of the body, where somebody asks for one.
            return FilePart(None, read[1], lambda: lines, len(block))
        try:
            found, suspicious = _parsed(raw)
            if len(found) == len(kept):
                return self._part(list(zip(lines, found, kept)), len(block), suspicious, [])
        except ValueError:
            pass
        unread, good, doubtful = [], [], False
        for at, row in kept:
            try:
                value, suspicious = _parsed(row)
                good.append((at, value, (at, row)))
                doubtful = doubtful or suspicious
            except ValueError as error:
                unread.append(
                    UnreadablePart(at, "record.not_json", f"the line is not JSON: {error}", row.decode("utf-8", "replace"))
                )
        return self._part(good, len(block), doubtful, unread)

    def _part(self, found: list[Any], size: int, suspicious: bool, unread: list[UnreadablePart]) -> FilePart:
        for at, value, (_, row) in found:
            if type(value) is not dict:
                words = f"found {type(value).__name__} on the line instead of an object"
                unread.append(UnreadablePart(at, "record.not_an_object", words, row.decode("utf-8", "replace")))
        good = [(at, value) for at, value, _ in found if type(value) is dict]
        lines = [at for at, _ in good]
        return FilePart(
            None, [value for _, value in good], lambda: lines, size, sorted(unread, key=lambda one: one.line), suspicious
        )


def _require_last_line(block: bytes, path: str) -> None:
    """Check the last line of a file.

    Raises:
        FileProblem: it has no line break and is not JSON, so the file is cut off.
    """
    last = block.rpartition(b"\n")[2]
    try:
        if last.strip():
            _parsed(last)
    except ValueError:
        words = f"{path} ends in the middle of its last line"
        raise file_problem("file.damaged", words, "replace it with the whole file") from None


class DocumentFiles(FormatReader):
    """One JSON document in each file."""

    @override
    def read(self, content: Iterator[bytes], path: str) -> Iterator[FilePart]:
        yield from _document(in_utf8(content, "utf-8", path), path, self._reading.options(JsonFormat).records or "@")


def _document(parts: Iterator[bytes], path: str, records: str) -> Iterator[FilePart]:
    """records: the path to the list, as JMESPath."""
    raw = b""
    for part in parts:
        raw += part
        if len(raw) > _LARGEST_DOCUMENT:
            words = (
                f"{path} is one JSON document of more than {_LARGEST_DOCUMENT:,} bytes, which would have to be held in memory"
            )
            raise file_problem("file.too_large", words, "write it as NDJSON, one record on each line")
    try:
        if len(raw) > big_json.LARGE_BYTES and big_json.can_split(records):
            _, places = big_json.split(raw, records)
            number = 1
            for start, end in places:
                found, suspicious = _parsed(b"[" + raw[start:end] + b"]")
                yield _listed(found, number, end - start, suspicious)
                number += len(found)
            return
        body, suspicious = _parsed(raw)
    except (ValueError, RecursionError) as error:
        raise file_problem("file.unreadable", f"{path} is not JSON: {error}", "replace it with a whole document") from None
    found = jmespath.search(records, body)
    if not isinstance(found, list):
        words = f"{path} has no list of records at `{records}`, but {'nothing' if found is None else type(found).__name__}"
        raise file_problem("file.unreadable", words, "say where it is: `format: {type: json, records: items}`")
    for start in range(0, len(found), _AT_ONCE):
        some = found[start : start + _AT_ONCE]
        yield _listed(some, start + 1, len(raw) * len(some) // len(found), suspicious)


def _listed(found: list[Any], number: int, size: int, suspicious: bool) -> FilePart:
    unread = [
        UnreadablePart(
            number + place,
            "record.not_an_object",
            f"found {type(value).__name__} instead of an object in the list of records",
            str(value)[:500],
        )
        for place, value in enumerate(found)
        if type(value) is not dict
    ]
    lines = [number + place for place, value in enumerate(found) if type(value) is dict]
    return FilePart(None, [value for value in found if type(value) is dict], lambda: lines, size, unread, suspicious)


def _parsed(raw: bytes) -> tuple[Any, bool]:
    try:
        return json_body.parse(raw)
    except UnicodeDecodeError:
        return json_body.parse(raw.decode("utf-8", "surrogateescape").encode("utf-8", "surrogatepass"))
