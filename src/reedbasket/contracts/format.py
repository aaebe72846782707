"""What all file formats have in common."""

from __future__ import annotations

import gzip
import io
from collections.abc import Sequence
from typing import Any, Protocol

import pytest

from ..core.records.plain_values import as_records
from ..core.sources.files.formats.part import FilePart
from ..core.sources.files.formats.text_columns import Columns
from ..core.sources.files.problems import FileProblem
from ..core.sources.files.reader import FileReader
from ..core.sources.files.store import FileInfo
from ..core.spec.files import FileFormat, as_format

Record = dict[str, Any]
RECORDS: list[Record] = [
    {"id": 1, "place": "osier", "weight": 1.5},
    {"id": 2, "place": "r\u00f8d, \u201cquay\u201d", "weight": None},
    {"id": 3, "place": None, "weight": -0.25},
]


class Written(Protocol):
    """Files of one format.

    Attributes:
        name: of such a file, with its ending.
        form: `format`, as people write it.
        tells_cuts: a file that is cut off anywhere is detected.
    """

    name: str
    form: Any
    tells_cuts: bool

    def write(self, records: Sequence[Record]) -> bytes:
        """A file of these records, which have the keys of `RECORDS`."""


class FormatContract:
    """The tests need a fixture `written`."""

    def test_every_record_comes_once_and_in_order(self, written: Written) -> None:
        many = [{**RECORDS[n % 3], "id": n} for n in range(20_000)]
        for records in (RECORDS, many):
            assert _records(_read(written, written.name, written.write(records))) == records

    def test_lines_are_told_one_a_record_and_ascend(self, written: Written) -> None:
        lines = [line for part in _read(written, written.name, written.write(RECORDS)) for line in part.lines()]
        assert len(lines) == len(RECORDS) and lines == sorted(lines) and lines[0] >= 1

    def test_a_file_without_records_holds_none(self, written: Written) -> None:
        assert _records(_read(written, written.name, written.write([]))) == []

    def test_it_is_read_out_of_what_it_is_packed_in(self, written: Written) -> None:
        packed = gzip.compress(written.write(RECORDS))
        assert _records(_read(written, f"{written.name}.gz", packed)) == RECORDS
        with pytest.raises(FileProblem):
            _read(written, f"{written.name}.gz", packed[:-9])

    def test_a_file_that_is_cut_is_never_taken_for_another_whole_one(self, written: Written) -> None:
        whole = written.write(RECORDS)
        for end in range(1, len(whole) - 1, max(1, len(whole) // 40)):
            try:
                parts = _read(written, written.name, whole[:end])
            except FileProblem:
                continue
            found = _records(parts)
            assert not written.tells_cuts or found == RECORDS, end
            assert len(found) <= len(RECORDS), end

    def test_a_page_of_html_in_its_place_is_refused(self, written: Written) -> None:
        with pytest.raises(FileProblem):
            _read(written, written.name, b"<!doctype html><html><body>Please sign in</body></html>\n")


def _read(written: Written, name: str, content: bytes) -> list[FilePart]:
    reader = FileReader(FileFormat.model_validate(as_format(written.form)), Columns({}, "UTC"))
    return list(reader.read(FileInfo(name, len(content), None), io.BytesIO(content)))


def _records(parts: Sequence[FilePart]) -> list[Record]:
    found: list[Record] = []
    for part in parts:
        assert not part.unread
        found += as_records(part.columns) if part.columns is not None else part.records
    return [{name: record.get(name) for name in RECORDS[0]} for record in found]
