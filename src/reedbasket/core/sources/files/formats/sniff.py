"""Detecting how a CSV file is written from its beginning: encoding, delimiter, decimal mark, and whether it has a header."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter

from .blocks import begins_with
from .options import CsvFormat

# What the first block of a file is looked at for.
LOOKED_AT = 64 * 1024
_DELIMITERS = (",", ";", "\t", "|")
_NUMBER = re.compile(r"-?[0-9]+([.,][0-9]+)?([eE][+-]?[0-9]+)?")
_DAY = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}([T ].*)?")


def sniffed_format(first: bytes, form: CsvFormat) -> CsvFormat:
    """The options as given, completed by what the file shows."""
    encoding, mark = begins_with(first)
    encoding = encoding or form.encoding
    if encoding is None:
        encoding = "utf-8" if _is_utf8(first) else "cp1252"
    text = first[mark : mark + LOOKED_AT].decode(encoding, "replace")
    lines = text.splitlines(keepends=True)[form.skip_lines :]
    # The last line may be cut.
    text = "".join(lines[:-1] if len(lines) > 1 and len(first) >= LOOKED_AT else lines)
    delimiter = form.delimiter or _delimiter(text, form.quote)
    rows = [row for row in _rows(text, delimiter, form.quote) if row][:200]
    header = form.header
    if header is None:
        header = form.columns is None and _names_columns(rows)
    decimal = form.decimal or _decimal(rows[1:] if header else rows, delimiter)
    return form.model_copy(update={"encoding": encoding, "delimiter": delimiter, "header": header, "decimal": decimal})


def description(form: CsvFormat) -> str:
    """The options, as people read them."""
    names = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar"}
    words = [f"delimiter {names.get(form.delimiter or ',', repr(form.delimiter))}", form.encoding or "utf-8"]
    words.append("with a header" if form.header else "without a header")
    if form.decimal == ",":
        words.append("decimal comma")
    if form.skip_lines:
        words.append(f"{form.skip_lines} lines skipped")
    return ", ".join(words)


def _is_utf8(first: bytes) -> bool:
    try:
        first.decode("utf-8")
    except UnicodeDecodeError as error:
        return error.start > len(first) - 4  # cut in the middle of a character
    return True


def _rows(text: str, delimiter: str, quote: str) -> list[list[str]]:
    try:
        return list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, quotechar=quote))
    except csv.Error:
        return []


def _delimiter(text: str, quote: str) -> str:
    """The delimiter by which most lines have the same number of columns, more than one; of several, the one with more columns."""
    best: tuple[float, int] = (0.0, 0)
    chosen = ","
    for delimiter in _DELIMITERS:
        widths = Counter(len(row) for row in _rows(text, delimiter, quote)[:200] if row)
        if not widths:
            continue
        width, count = widths.most_common(1)[0]
        score = (count / sum(widths.values()), width)
        if width > 1 and score > best:
            best, chosen = score, delimiter
    return chosen


def _names_columns(rows: list[list[str]]) -> bool:
    """Whether a line is a header: its values are all text and distinct, and those below are not all text, or nothing speaks against it."""
    if not rows:
        return True
    first = [cell.strip() for cell in rows[0]]
    named = [cell for cell in first if cell]
    return len(set(named)) == len(named) and not any(_NUMBER.fullmatch(cell) or _DAY.fullmatch(cell) for cell in named)


def _decimal(rows: list[list[str]], delimiter: str) -> str:
    if delimiter == ",":
        return "."
    cells = [cell for row in rows for cell in row]
    commas = sum(bool(re.fullmatch(r"-?[0-9]+,[0-9]+", cell)) for cell in cells)
    points = sum(bool(re.fullmatch(r"-?[0-9]+\.[0-9]+", cell)) for cell in cells)
    return "," if commas > points else "."
