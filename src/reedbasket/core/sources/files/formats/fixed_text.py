"""Fixed-width text: each column stands at the same place in every line."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from typing_extensions import override

from .blocks import in_utf8, whole_lines, wrong_encoding
from .options import FixedFormat
from .part import FilePart, UnreadablePart
from .reading import FormatReader
from .text_columns import Columns


class FixedFiles(FormatReader):
    """See reading.FormatReader."""

    @override
    def read(self, content: Iterator[bytes], path: str) -> Iterator[FilePart]:
        form = self._reading.options(FixedFormat)
        yield from _lines(in_utf8(content, form.encoding, path), path, form, self._reading.columns)


def _lines(parts: Iterator[bytes], path: str, form: FixedFormat, columns: Columns) -> Iterator[FilePart]:
    """The records. A column that a line does not reach is null; a line that ends within a column is reported.

    Args:
        parts: the file's bytes, in UTF-8.
    """
    line, skip = 1, form.skip_lines
    places = {name: _place(text) for name, text in form.columns.items()}
    begins = sorted(first for first, _ in places.values())
    for block in whole_lines(parts, None, ",", path):
        try:
            rows = block.decode("utf-8").split("\n")
        except UnicodeDecodeError:
            raise wrong_encoding(path, form.encoding, f"from about line {line:,} on") from None
        kept, lines, unread = [], [], []
        for at, row in enumerate(rows, line):
            row = row.rstrip("\r")
            if at - line < skip or not row.strip():
                continue
            # Blanks at a line's end are often cut off; where not even the first column is reached, it is no such line.
            if len(row) <= begins[0]:
                unread.append(
                    UnreadablePart(at, "record.wrong_field_count", f"{len(row)} characters, before any column begins", row)
                )
                continue
            kept.append(row)
            lines.append(at)
        if kept or unread:
            yield _part(kept, lines, unread, places, columns, form, len(block))
        skip = max(0, skip - block.count(b"\n"))
        line += block.count(b"\n")


def _part(
    kept: list[str], lines: list[int], unread: list[UnreadablePart], places: dict[str, tuple[int, int | None]], columns: Columns,
    form: FixedFormat, size: int,
) -> FilePart:  # fmt: skip
    texts: dict[str, Any] = {}
    rows = pa.array(kept, pa.string())
    for name, (first, last) in places.items():
        cut = pc.utf8_trim_whitespace(pc.utf8_slice_codeunits(rows, first, last))
        cut = pc.if_else(pc.equal(cut, ""), pa.scalar(None, pa.string()), cut)
        if form.decimal != ".":
            numbers = pc.fill_null(pc.match_substring_regex(cut, rf"^-?[0-9]+\{form.decimal}[0-9]+$"), False)
            cut = pc.if_else(numbers, pc.replace_substring(cut, form.decimal, "."), cut)
        texts[name] = pa.chunked_array([cut])
    table, records = columns.table(texts)
    return FilePart(table, records, lambda: lines, size, unread)


def _place(text: str) -> tuple[int, int | None]:
    first, _, last = text.partition("-")
    return int(first) - 1, int(last) if last else None
