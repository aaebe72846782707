"""CSV and similar text as columns: pyarrow parses, the types are our own, and values that do not fit are looked at one by one."""

from __future__ import annotations

import csv
import io
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import pyarrow as pa
import pyarrow.csv as pa_csv

from ....memory import BRIEF
from ..problems import file_problem
from . import text_types as text_kinds
from .blocks import lines_in, whole_lines, wrong_encoding
from .options import CsvFormat
from .part import FilePart, UnreadablePart
from .text_columns import Columns
from .text_types import NUMBERS, TextKind, finished, numbers

# Blocks parsed beside each other; pyarrow holds no lock of Python's while it does.
_AT_ONCE = 2


class CsvReader:
    """Reads files of one form.

    Args:
        form: complete (see sniff).
    """

    def __init__(self, form: CsvFormat, columns: Columns) -> None:
        self._form = form
        self._columns = columns
        self._delimiter = form.delimiter or ","
        self._decimal = form.decimal or "."

    def read(self, parts: Iterator[bytes], path: str) -> Iterator[FilePart]:
        """The records of a file.

        Args:
            parts: its bytes, in UTF-8.

        Raises:
            FileProblem: the file cannot be read.
        """
        waiting: deque[Future[FilePart]] = deque()
        blocks = self._blocks(parts, path)
        for block in blocks:  # the first by itself: the others are read as what it shows
            yield self._part(*block, path)
            break
        with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="parse") as pool:
            try:
                for block in blocks:
                    waiting.append(pool.submit(self._part, *block, path))
                    if len(waiting) > _AT_ONCE:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            finally:
                for left in waiting:
                    left.cancel()

    def _blocks(self, parts: Iterator[bytes], path: str) -> Iterator[tuple[bytes, list[str], int]]:
        """(rows, the columns' names, the line that they begin on)."""
        line, header = 1, self._form.columns
        for number, block in enumerate(whole_lines(parts, self._form.quote, self._delimiter, path)):
            skipped = 0
            if number == 0:
                skipped = _behind_lines(block, self._form.skip_lines)
                line += self._form.skip_lines
                if header is None:
                    header, used = self._header(block[skipped:], path)
                    line += block.count(b"\n", skipped, skipped + used)
                    skipped += used
            body = block[skipped:] if skipped else block
            if header and not body.endswith((b"\n", b"\r")):
                self._require_last_line(body, len(header), path)
            if header and not body.isspace() and body:
                yield body, header, line
            line += lines_in(body) + (not body.endswith(b"\n"))

    def _require_last_line(self, body: bytes, columns: int, path: str) -> None:
        """Raises FileProblem where the last line has no end, and less in it than a line has."""
        text = body[max(body.rfind(b"\n"), len(body) - 1024 * 1024) + 1 :].decode("utf-8", "replace")
        # A quoted value that goes over lines is whole, or was told of before.
        if text.strip() and text.count(self._form.quote) % 2 == 0:
            rows = list(csv.reader([text], delimiter=self._delimiter, quotechar=self._form.quote))
            if rows and len(rows[-1]) < columns:
                words = f"{path} ends in the middle of its last line, with {len(rows[-1])} of {columns} values"
                raise file_problem(
                    "file.damaged", words, "replace it with the whole file; if it is whole, end its last line with a line break"
                )

    def _header(self, block: bytes, path: str) -> tuple[list[str], int]:
        """(the names, how many bytes they take)."""
        text = block[: 256 * 1024].decode("utf-8", "replace")
        lines = io.StringIO(text, newline="")
        rows = csv.reader(lines, delimiter=self._delimiter, quotechar=self._form.quote)
        first = next((row for row in rows if row), [])
        if not self._form.header and self._form.header is not None:
            return [f"column_{place}" for place in range(1, len(first) + 1)], 0
        names = [name.strip() or f"column_{place}" for place, name in enumerate(first, 1)]
        twice = next((name for place, name in enumerate(names) if name in names[:place]), None)
        if twice is not None:
            words = f"the column {twice} occurs twice in the header of {path}"
            raise file_problem(
                "file.unreadable", words, "name the columns yourself: `format: {type: csv, columns: [...], skip_lines: 1}`"
            )
        known = self._columns.known
        if known and not any(name in known for name in names):
            words = f"{path} has none of the table's columns; its first line names {', '.join(names)[:300]}"
            raise file_problem("file.unreadable", words, "replace it with the right file, or exclude it from the pattern")
        return names, len(text[: lines.tell()].encode("utf-8"))

    def _part(self, block: bytes, header: list[str], line: int, path: str) -> FilePart:
        unread: list[tuple[int, UnreadablePart]] = []
        kinds = self._columns.known
        now = {name: kind for name in header if (kind := kinds.get(name)) is not None}
        columns = self._typed(block, header, now, unread)
        if columns is not None:
            return FilePart(columns, [], self._lines(block, line, unread), len(block), self._told(block, line, unread))
        unread.clear()
        try:
            block.decode("utf-8")
        except UnicodeDecodeError as error:
            at = line + block.count(b"\n", 0, error.start)
            raise wrong_encoding(path, self._form.encoding or "utf-8", f"on line {at:,}") from None
        try:
            table = self._parse(block, header, {}, unread)
        except pa.ArrowInvalid as error:
            raise file_problem("file.unreadable", f"{path} from about line {line:,} on: {error}", "fix the file") from None
        texts = {name: table.column(name) for name in header}
        columns, records = self._columns.table(texts, self._decimal)
        return FilePart(columns, records, self._lines(block, line, unread), len(block), self._told(block, line, unread))

    def _typed(
        self, block: bytes, header: list[str], now: dict[str, TextKind], unread: list[tuple[int, UnreadablePart]]
    ) -> pa.Table | None:
        """A block parsed with the known types of its columns; None if that is not enough, or a value is of another type."""
        # Of times it has to be known whether they name their zone.
        if not now or any(kind.kind == "timestamp" and kind.zoned is None for kind in now.values()):
            return None
        # Numbers are looked at before they are read.
        parsed = {name: kind for name, kind in now.items() if kind.kind not in NUMBERS}
        columns: dict[str, Any] = {}
        try:
            table = self._parse(block, header, parsed, unread)
            for name in header:
                values, kind = table.column(name), now.get(name)
                columns[name] = numbers(values, kind, self._decimal) if kind and kind.kind in NUMBERS else values
        except pa.ArrowInvalid:
            return None
        # A column of which only nulls are known may have its first value here.
        if any(name not in now and columns[name].null_count < table.num_rows for name in header):
            return None
        if any(values is None for values in columns.values()):
            return None
        fields = [finished(name, values, now.get(name), self._columns.zone) for name, values in columns.items()]
        return pa.Table.from_arrays([values for _, values in fields], schema=pa.schema([field for field, _ in fields]))

    def _parse(
        self, block: bytes, header: list[str], kinds: dict[str, TextKind], unread: list[tuple[int, UnreadablePart]]
    ) -> pa.Table:
        def odd(row: pa_csv.InvalidRow) -> str:
            words = f"{row.actual_columns} values instead of {row.expected_columns}"
            unread.append((row.number, UnreadablePart(0, "record.wrong_field_count", words, row.text)))
            return "skip"

        # Looked for once in the whole block, so that the parser need not at every letter.
        quoted = self._form.quote.encode() in block
        return pa_csv.read_csv(
            pa.py_buffer(block),
            read_options=pa_csv.ReadOptions(use_threads=False, block_size=len(block) + 1, column_names=header),
            parse_options=pa_csv.ParseOptions(
                delimiter=self._delimiter,
                quote_char=self._form.quote if quoted else False,
                newlines_in_values=quoted,
                invalid_row_handler=odd,
            ),
            convert_options=pa_csv.ConvertOptions(
                column_types={name: kinds[name].arrow if name in kinds else pa.string() for name in header},
                null_values=["", *self._form.null_values],
                true_values=text_kinds.TRUE,
                false_values=text_kinds.FALSE,
                strings_can_be_null=True,
                quoted_strings_can_be_null=False,
                check_utf8=not block.isascii(),
            ),
            memory_pool=BRIEF,
        )

    def _lines(self, block: bytes, line: int, unread: Sequence[tuple[int, UnreadablePart]]) -> Callable[[], Sequence[int]]:
        bad = {number for number, _ in unread}
        return lambda: [at for number, at in enumerate(self._begins(block, line), 1) if number not in bad]

    def _begins(self, block: bytes, line: int) -> list[int]:
        """The line that each record begins on; empty lines are none."""
        if self._form.quote.encode() not in block:
            rows = block.split(b"\n")
            return [line + place for place, row in enumerate(rows) if row.strip(b"\r")]
        rows_of = csv.reader(
            io.StringIO(block.decode("utf-8", "replace"), newline=""), delimiter=self._delimiter, quotechar=self._form.quote
        )
        found, before = [], 0
        for row in rows_of:
            if row:
                found.append(line + before)
            before = rows_of.line_num
        return found

    def _told(self, block: bytes, line: int, unread: list[tuple[int, UnreadablePart]]) -> list[UnreadablePart]:
        if not unread:
            return []
        begins = self._begins(block, line)
        return [replace(one, line=begins[min(number, len(begins)) - 1] if begins else line) for number, one in unread]


def _behind_lines(block: bytes, count: int) -> int:
    place = 0
    for _ in range(count):
        place = block.find(b"\n", place) + 1
        if not place:
            return len(block)
    return place
