"""Spreadsheets, by openpyxl: a sheet or some of its cells, whose first row is the header."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from datetime import date, datetime, time
from typing import Any
from zoneinfo import ZoneInfo

import openpyxl
from openpyxl.utils import column_index_from_string
from typing_extensions import override

from ..problems import file_problem
from .options import SheetFormat
from .part import FilePart
from .reading import FormatReader

_AT_ONCE = 2_000
_CELLS = re.compile(r"([A-Za-z]+)([0-9]*):([A-Za-z]+)([0-9]*)")


class SheetFiles(FormatReader):
    """See reading.FormatReader."""

    @override
    def read(self, content: Any, path: str) -> Iterator[FilePart]:
        yield from _sheet(content, path, self._reading.options(SheetFormat), self._reading.columns.zone)


def _sheet(content: Any, path: str, form: SheetFormat, zone: str) -> Iterator[FilePart]:
    try:
        book = openpyxl.load_workbook(content, read_only=True, data_only=True)
    except (zipfile.BadZipFile, KeyError, ValueError, OSError) as error:
        raise file_problem(
            "file.damaged", f"{path} cannot be read as a spreadsheet: {error}", "replace it with the whole file"
        ) from None
    try:
        if form.sheet is not None and form.sheet not in book.sheetnames:
            words = f"{path} has no sheet {form.sheet}, but {', '.join(book.sheetnames)}"
            raise file_problem("file.unreadable", words, "fix `sheet` in the table's format")
        sheet: Any = book[form.sheet] if form.sheet else book[book.sheetnames[0]]
        yield from _rows(sheet, path, form, ZoneInfo(zone))
    finally:
        book.close()


def _rows(sheet: Any, path: str, form: SheetFormat, zone: ZoneInfo) -> Iterator[FilePart]:
    bounds: dict[str, int] = {}
    if form.cells is not None and (found := _CELLS.fullmatch(form.cells)):
        bounds = {"min_col": column_index_from_string(found[1].upper()), "max_col": column_index_from_string(found[3].upper())}
        bounds |= {name: int(text) for name, text in (("min_row", found[2]), ("max_row", found[4])) if text}
    names: list[str] | None = None
    held: list[dict[str, Any]] = []
    lines: list[int] = []
    for number, row in enumerate(sheet.iter_rows(**bounds), bounds.get("min_row", 1)):
        values = [_value(cell, zone) for cell in row]
        if all(value is None for value in values):
            continue
        if names is None:
            names = _header(values, path)
            continue
        # A sheet's own width goes as far as anybody ever wrote: cells right of the header are columns once they hold something.
        while values and values[-1] is None and len(values) > len(names):
            values.pop()
        names += [_beside(names, place) for place in range(len(names) + 1, len(values) + 1)]
        values += [None] * (len(names) - len(values))
        held.append(dict(zip(names, values)))
        lines.append(number)
        if len(held) == _AT_ONCE:
            yield _part(held, lines)
            held, lines = [], []
    if held:
        yield _part(held, lines)


def _beside(names: list[str], place: int) -> str:
    name = f"column_{place}"
    while name in names:
        name += "_"
    return name


def _part(held: list[dict[str, Any]], lines: list[int]) -> FilePart:
    return FilePart(None, held, lambda: lines, 40 * len(held) * max(1, len(held[0])))


def _header(values: list[Any], path: str) -> list[str]:
    names = ["" if value is None else str(value).strip() for value in values]
    while names and not names[-1]:
        names.pop()
    names = [name or f"column_{place}" for place, name in enumerate(names, 1)]
    twice = next((name for place, name in enumerate(names) if name in names[:place]), None)
    if twice is not None:
        raise file_problem("file.unreadable", f"the column {twice} occurs twice in the header of {path}", "rename it there")
    return names


def _value(cell: Any, zone: ZoneInfo) -> Any:
    value = cell.value
    if isinstance(value, datetime):
        form = str(getattr(cell, "number_format", "")).lower()
        if value.time() == time() and "h" not in form:
            return value.date().isoformat()
        return value.replace(tzinfo=zone).isoformat()
    if isinstance(value, date | time):
        return value.isoformat()
    if value is None or isinstance(value, bool | int | float | str):
        return value
    return str(value)
