"""One file to its records, whatever it is packed in and written as."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import chain
from typing import Any

from ...shaping.fast_path import Expected
from ...spec.files import CsvText, FileFormat, FormatName
from ..html import is_html
from .formats.blocks import in_utf8, wrong_encoding
from .formats.csv_text import Columns, CsvReader
from .formats.fixed_text import read_fixed
from .formats.json_text import LinesReader, read_document
from .formats.part import FilePart
from .formats.sniff import LOOKED_AT, sniffed
from .problems import file_problem
from .store import FileInfo
from .unpack import CHUNK, Bounded, is_zip, members, opened, plain_name

_BY_END: dict[str, FormatName] = {
    "csv": "csv", "tsv": "csv", "txt": "csv", "psv": "csv", "ndjson": "ndjson", "jsonl": "ndjson", "json": "json",
    "parquet": "parquet", "pq": "parquet", "arrow": "arrow", "arrows": "arrow", "ipc": "arrow", "feather": "arrow",
    "xlsx": "xlsx", "xlsm": "xlsx",
}  # fmt: skip


class FileReader:
    """Reads the files of one table, one after the other. sniffed_as: how CSV turned out to be written; kept from the first file on."""

    def __init__(
        self,
        form: FileFormat,
        columns: Columns,
        sniffed_as: CsvText | None,
        wanted: Callable[[], Expected | None] = lambda: None,
    ) -> None:
        """sniffed_as: as it was in runs before. wanted: what JSON records are expected to be by now."""
        self._form = form
        self._columns = columns
        self._wanted = wanted
        self.sniffed_as = sniffed_as

    def format_of(self, path: str) -> FormatName | None:
        """By the definition, else by the name; None where neither tells."""
        return self._form.name or _BY_END.get(plain_name(path).rpartition(".")[2].lower())

    def read(self, info: FileInfo, content: Any) -> Iterator[FilePart]:
        """Raises FileProblem for a file that cannot be taken whole, SourceError for the store."""
        path = info.path
        if info.size == 0:
            return
        bounded = Bounded(path, info.size, self._form.largest)
        if is_zip(path) and self._form.name != "xlsx":
            for name, member in members(content, path, self._form.members):
                for part in self._plain(f"{path}/{name}", member, bounded):
                    yield replace(part, member=name)
            return
        yield from self._plain(path, content, bounded)

    def _plain(self, path: str, content: Any, bounded: Bounded) -> Iterator[FilePart]:
        name = self.format_of(path)
        if name is None:
            words = f"nothing tells what {path} is written as"
            raise file_problem("file.unreadable", words, "say `format: csv`, or ndjson, json, parquet, arrow, xlsx, fixed")
        if name in ("parquet", "arrow", "xlsx"):
            yield from self._seekable(name, path, content, bounded)
            return
        parts = _data(opened(content, path, bounded), path)
        if name == "csv":
            yield from self._csv(parts, path)
        elif name == "fixed":
            assert self._form.fixed is not None
            yield from read_fixed(in_utf8(parts, self._form.fixed.encoding, path), path, self._form.fixed, self._columns)
        elif name == "ndjson":
            yield from LinesReader(self._wanted).read(in_utf8(parts, "utf-8", path), path)
        else:
            yield from read_document(in_utf8(parts, "utf-8", path), path, self._form.records or "@")

    def _csv(self, parts: Iterator[bytes], path: str) -> Iterator[FilePart]:
        first = b""
        while len(first) < LOOKED_AT and (more := next(parts, b"")):
            first += more
        if self.sniffed_as is None:
            said = self._form.csv
            if said.delimiter is None and plain_name(path).lower().endswith(".tsv"):
                said = said.model_copy(update={"delimiter": "\t"})
            self.sniffed_as = sniffed(first, said)
        form = self.sniffed_as
        try:
            text = in_utf8(chain((first,), parts), form.encoding or "utf-8", path)
        except LookupError:
            raise file_problem(
                "file.encoding", f"nobody knows the encoding {form.encoding}", "mend it in the definition"
            ) from None
        try:
            yield from CsvReader(form, self._columns).read(text, path)
        except UnicodeDecodeError as error:
            raise wrong_encoding(path, form.encoding or "utf-8", str(error)) from None

    def _seekable(self, name: str, path: str, content: Any, bounded: Bounded) -> Iterator[FilePart]:
        if plain_name(path) == path and content.seekable():
            yield from self._columns_of(name, path, content)
            return
        with tempfile.TemporaryFile() as held:
            for part in opened(content, path, bounded):
                held.write(part)
            held.seek(0)
            yield from self._columns_of(name, path, held)

    def _columns_of(self, name: str, path: str, content: Any) -> Iterator[FilePart]:
        zone = self._columns.zone
        # With the libraries they need, which most runs have no use for: they take 4 MB.
        if name == "xlsx":
            from .formats.sheets import read_sheet

            yield from read_sheet(content, path, self._form.xlsx, zone)
            return
        from .formats.arrow_files import read_arrow, read_parquet

        yield from (read_parquet if name == "parquet" else read_arrow)(content, path, zone)


def _data(parts: Iterator[bytes], path: str) -> Iterator[bytes]:
    """The same parts. Raises FileProblem where they are a page of HTML."""
    first = next(parts, b"")
    if is_html(first[:512]):
        words = f"{path} is a page of HTML; whatever fetched it was shown one in place of the file"
        raise file_problem("file.unreadable", words, "put the file in its place")
    yield first
    yield from parts


__all__ = ["CHUNK", "FileReader"]
