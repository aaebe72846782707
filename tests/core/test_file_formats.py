"""One file in every format and packing: the same records, with the lines they stand on."""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import json
import lzma
import zipfile
from collections.abc import Callable, Sequence
from datetime import date
from decimal import Decimal
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from reedbasket.contracts.format import RECORDS as CONTRACT_RECORDS
from reedbasket.contracts.format import FormatContract
from reedbasket.core.kinds import FORMATS
from reedbasket.core.records.plain_values import as_records
from reedbasket.core.sources.files.formats.text_columns import Columns
from reedbasket.core.sources.files.formats.text_types import TextKind
from reedbasket.core.sources.files.problems import FileProblem
from reedbasket.core.sources.files.reader import FileReader
from reedbasket.core.sources.files.store import FileInfo
from reedbasket.core.spec.files import FileFormat, as_format

ROWS = [(1, "osier", "2026-03-01", True), (2, 'say "quay"\nsecond line', "2026-03-02", None), (3, "ø, tansy", None, False)]
NAMES = ["id", "place", "day", "open"]
RECORDS = [dict(zip(NAMES, row)) for row in ROWS]
LINES = "".join(json.dumps(record) + "\n" for record in RECORDS).encode()


def csv_of(delimiter: str = ",", encoding: str = "utf-8", end: str = "\n", before: str = "") -> bytes:
    def cell(value: Any) -> str:
        text = "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
        return '"' + text.replace('"', '""') + '"' if set(text) & set('",\n') or delimiter in text else text

    return (before + end.join(delimiter.join(map(cell, row)) for row in [NAMES, *ROWS]) + end).encode(encoding)


def sheet() -> bytes:
    book, held = openpyxl.Workbook(), io.BytesIO()
    book.active.append(["nothing of ours"])
    other = book.create_sheet("Counts")
    other.append([None, "made by hand"])
    other.append([None, *NAMES])
    for number, place, day, is_open in ROWS:
        other.append([None, number, place, day and date.fromisoformat(day), is_open])
    book.save(held)
    return held.getvalue()


def table() -> pa.Table:
    days = pa.array([day and date.fromisoformat(day) for _, _, day, _ in ROWS], pa.date32())
    return pa.table({"id": [1, 2, 3], "place": [row[1] for row in ROWS], "day": days, "open": [row[3] for row in ROWS]})


def written(write: Callable[[io.BytesIO, pa.Table], Any]) -> bytes:
    held = io.BytesIO()
    write(held, table())
    return held.getvalue()


def stream(held: io.BytesIO, rows: pa.Table) -> None:
    with pa.ipc.new_stream(held, rows.schema) as writer:
        writer.write_table(rows)


def file(held: io.BytesIO, rows: pa.Table) -> None:
    with pa.ipc.new_file(held, rows.schema) as writer:
        writer.write_table(rows)


def zipped() -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a/1.ndjson", LINES[: LINES.index(b"\n") + 1])
        archive.writestr("b/2.ndjson", LINES[LINES.index(b"\n") + 1 :])
        archive.writestr("readme.txt", b"not, ours")
    return held.getvalue()


FIXED = "".join(f"{n:<4}{place[:3]:<6}{day or '':<10}\n" for n, place, day, _ in ROWS).encode()
CASES: list[tuple[str, bytes, Any]] = [
    ("a.csv", csv_of(), None),
    ("semicolons.csv", csv_of(";", end="\r\n"), None),
    ("a.tsv", csv_of("\t", "utf-8-sig"), None),
    ("western.csv", csv_of(";", "cp1252"), None),
    ("wide.csv", csv_of("|", "utf-16"), None),
    ("skipped.csv", csv_of(before="made by hand\n\n"), {"type": "csv", "skip_lines": 2}),
    ("a.ndjson", LINES, None),
    ("a.json", json.dumps({"data": {"items": RECORDS}}).encode(), {"type": "json", "records": "data.items"}),
    ("a.xlsx", sheet(), {"type": "xlsx", "sheet": "Counts", "cells": "B2:E9"}),
    ("a.parquet", written(lambda held, rows: pq.write_table(rows, held)), None),
    ("a.arrow", written(file), None),
    ("a.arrows", written(stream), None),
    ("a.ndjson.gz", gzip.compress(LINES[:40]) + gzip.compress(LINES[40:]), None),
    ("a.ndjson.zst", pa.compress(LINES, "zstd", asbytes=True), None),
    ("a.ndjson.bz2", bz2.compress(LINES), None),
    ("a.ndjson.xz", lzma.compress(LINES), None),
    ("a.parquet.gz", gzip.compress(written(lambda held, rows: pq.write_table(rows, held))), None),
    ("a.zip", zipped(), {"members": "*.ndjson"}),
]


def read(
    name: str, content: bytes, form: Any = None, known: dict[str, Any] | None = None
) -> tuple[list[Any], list[int], list[Any]]:
    """(records, lines, what could not be read)."""
    reader = FileReader(FileFormat.model_validate(as_format(form or {})), Columns(known or {}, "UTC"))
    records: list[Any] = []
    lines: list[int] = []
    unread: list[Any] = []
    for part in reader.read(FileInfo(name, len(content), None), io.BytesIO(content)):
        records += as_records(part.columns) if part.columns is not None else part.records
        lines += part.lines()
        unread += part.unread
    return records, lines, unread


class WrittenAs:
    """Files of one format, as their own libraries write them."""

    def __init__(self, ending: str) -> None:
        self.name = f"things.{ending}"
        # Of text, a file that ends with a line looks whole.
        self.tells_cuts = ending not in ("csv", "fixed", "ndjson")
        places = {"id": "1-6", "place": "7-26", "weight": "27-40"}
        self.form = {"type": "fixed", "columns": places} if ending == "fixed" else {}

    def write(self, records: Sequence[dict[str, Any]]) -> bytes:
        names, held = list(CONTRACT_RECORDS[0]), io.BytesIO()
        rows = [[record[name] for name in names] for record in records]
        if self.name.endswith("csv"):
            text = io.StringIO()
            csv.writer(text, lineterminator="\n").writerows([names, *rows])
            return text.getvalue().encode()
        if self.name.endswith("fixed"):
            lines = ["".join("" if v is None else str(v)).ljust(w) for row in rows for v, w in zip(row, (6, 20, 14))]
            return "".join(f"{''.join(lines[n : n + 3])}\n" for n in range(0, len(lines), 3)).encode()
        if self.name.endswith("ndjson"):
            return "".join(json.dumps(record) + "\n" for record in records).encode()
        if self.name.endswith("json"):
            return json.dumps(records).encode()
        if self.name.endswith("xlsx"):
            book = openpyxl.Workbook()
            for row in [names, *rows]:
                book.active.append(row)
            book.save(held)
            return held.getvalue()
        types = pa.schema([("id", pa.int64()), ("place", pa.string()), ("weight", pa.float64())])
        made = pa.Table.from_pylist(list(records), types)
        if self.name.endswith("parquet"):
            pq.write_table(made, held)
        else:
            with pa.ipc.new_file(held, types) as writer:
                writer.write_table(made)
        return held.getvalue()


class TestEveryFormat(FormatContract):
    """The contract of formats over every one that ships."""

    @pytest.fixture(params=FORMATS._shipped)
    def written(self, request: pytest.FixtureRequest) -> WrittenAs:
        return WrittenAs(request.param)


@pytest.mark.parametrize(("name", "content", "form"), CASES, ids=[name for name, _, _ in CASES])
def test_every_format_brings_the_same_records(name: str, content: bytes, form: Any) -> None:
    records, lines, unread = read(name, content, form)
    assert [{key: record.get(key) for key in NAMES} for record in records] == RECORDS and not unread
    text = name.endswith((".csv", ".tsv"))
    begin = (2 + 2 * name.startswith("skipped")) if text else 3 if name == "a.xlsx" else 1
    assert lines == ([begin, begin + 1, begin + 3] if text else [1, 1, 2] if name == "a.zip" else [begin, begin + 1, begin + 2])


def test_columns_at_places_of_a_line() -> None:
    form = {"type": "fixed", "columns": {"id": "1-4", "place": "5-10", "day": "11-"}}
    records, lines, unread = read("a.txt", FIXED + b"\n", form)
    assert [r["id"] for r in records] == [1, 2, 3] and [r["place"] for r in records] == ["osi", "say", "ø,"]
    assert [r["day"] for r in records] == ["2026-03-01", "2026-03-02", None] and lines == [1, 2, 3] and not unread


@pytest.mark.slow
def test_numbers_are_exact_and_what_looks_like_one_but_is_none_stays_text() -> None:
    records, _, _ = read("a.csv", b"a,b,c,d,e,f,g\n1,0.10,007,1e3,9223372036854775808,NA,\n-2,12.345,8,2.5,1,x,\n")
    assert records == [
        {"a": 1, "b": Decimal("0.100"), "c": "007", "d": 1000.0, "e": Decimal(9223372036854775808), "f": "NA", "g": None},
        {"a": -2, "b": Decimal("12.345"), "c": "8", "d": 2.5, "e": Decimal(1), "f": "x", "g": None},
    ]
    # Once it is known what a column holds, a number with a zero before it is no number all the same.
    rows = b"n\n" + b"".join(b"%d\n" % n for n in range(200_000)) + b"0x1F\n08\n"
    records, _, _ = read("b.csv", rows)
    assert [r["n"] for r in records[-3:]] == ["199999", "0x1F", "08"]
    for odd in (b"007.5", b"-08.25"):
        records, _, _ = read("b.csv", b"n\n" + b"1.5\n-0.25\n0.5\n" * 80_000 + odd + b"\n")
        assert [r["n"] for r in (records[0], records[-2], records[-1])] == [Decimal("1.50"), "0.5", odd.decode()]


def test_spaces_around_what_is_known_to_be_a_number_do_not_count() -> None:
    known = {"n": TextKind("int64"), "d": TextKind("decimal", None, 9, 1)}
    records, _, _ = read("a.csv", b"n,d\n 7,1.5 \n8, 2.0\n", known=known)
    assert records == [{"n": 7, "d": Decimal("1.5")}, {"n": 8, "d": Decimal("2.0")}]
    records, _, _ = read("a.csv", b"n,d\n 07,1.5\n", known=dict(known))
    assert records[0]["n"] == " 07"


def test_a_column_of_nothing_but_nan_is_text() -> None:
    records, _, _ = read("a.csv", b"id,name,n\n1,nan,1e3\n2,NaN,nan\n")
    assert [record["name"] for record in records] == ["nan", "NaN"]
    assert records[0]["n"] == 1000.0 and records[1]["n"] != records[1]["n"]


def test_a_point_before_thousands_is_no_point_before_fractions() -> None:
    german = {"type": "csv", "delimiter": ";", "decimal": ","}
    records, _, _ = read("a.csv", b"a;b;c\n1,5;1.000;2,5\n0,25;12.500;about 3\n", german)
    assert records == [{"a": Decimal("1.50"), "b": "1.000", "c": "2,5"}, {"a": Decimal("0.25"), "b": "12.500", "c": "about 3"}]
    # Nor once the column is known to hold numbers.
    rows = b"a\n" + b"1,5\n" * 300_000 + b"1.000\n2,5\n"
    records, _, _ = read("b.csv", rows, german)
    assert [records[0]["a"], records[-2]["a"], records[-1]["a"]] == [Decimal("1.5"), "1.000", "2,5"]


def test_quotes_over_lines_are_never_cut_where_blocks_end() -> None:
    rows = [f'{n},"line one of {n}\nand ""two"", with, commas {"x" * (n % 300)}"\n' for n in range(20_000)]
    records, lines, _ = read("a.csv", ("n,text\n" + "".join(rows)).encode())
    assert [record["n"] for record in records] == list(range(20_000)) and lines == [2 + 2 * n for n in range(20_000)]
    assert all(record["text"].count("\n") == 1 for record in records)


@pytest.mark.slow
def test_an_archive_that_inflates_without_end_is_ended() -> None:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(40):
            archive.writestr(f"{number}.csv", b"a\n" + (b"0" * 9_999 + b"\n") * 400)
    with pytest.raises(FileProblem, match="more than") as caught:
        read("bomb.zip", held.getvalue())
    assert caught.value.code == "file.too_large"
    assert len(read("bomb.zip", held.getvalue(), {"max_unpacked": "1 GB"})[0]) == 16_000
