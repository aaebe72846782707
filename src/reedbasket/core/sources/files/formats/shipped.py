"""The formats that ship. Each is imported with its first file, together with the library that reads it."""

from __future__ import annotations

from ....kinds import FormatKind
from .options import CsvFormat, FixedFormat, JsonFormat, PlainFormat, SheetFormat

_HERE = __package__
CSV = FormatKind(f"{_HERE}.csv_file:CsvFiles", CsvFormat, endings=("csv", "tsv", "txt", "psv"), flat=True)
FIXED = FormatKind(f"{_HERE}.fixed_text:FixedFiles", FixedFormat, flat=True)
LINES = FormatKind(f"{_HERE}.json_text:LineFiles", PlainFormat, endings=("ndjson", "jsonl"))
DOCUMENT = FormatKind(f"{_HERE}.json_text:DocumentFiles", JsonFormat, endings=("json",))
PARQUET = FormatKind(f"{_HERE}.arrow_files:ParquetFiles", PlainFormat, endings=("parquet", "pq"), flat=True, whole=True)
ARROW = FormatKind(
    f"{_HERE}.arrow_files:ArrowFiles", PlainFormat, endings=("arrow", "arrows", "ipc", "feather"), flat=True, whole=True
)
SHEET = FormatKind(
    f"{_HERE}.sheets:SheetFiles", SheetFormat, endings=("xlsx", "xlsm"), flat=True, whole=True, zipped=True, extra="xlsx"
)
