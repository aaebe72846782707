"""CSV files: whatever the definition does not say about them is detected in the first one, and kept from then on."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain
from typing import Any

from typing_extensions import override

from ..problems import file_problem
from ..unpack import plain_name
from .blocks import in_utf8, wrong_encoding
from .csv_text import CsvReader
from .options import CsvFormat
from .part import FilePart
from .reading import FormatReader, ReadingContext
from .sniff import LOOKED_AT, description, sniffed_format


class CsvFiles(FormatReader):
    """See reading.FormatReader."""

    def __init__(self, reading: ReadingContext) -> None:
        super().__init__(reading)
        self._written = CsvFormat.model_validate(reading.found_out) if reading.found_out is not None else None
        self.found_out = reading.found_out

    @override
    def read(self, content: Iterator[bytes], path: str) -> Iterator[FilePart]:
        first = b""
        while len(first) < LOOKED_AT and (more := next(content, b"")):
            first += more
        form = self._written or self._find_out(first, path)
        encoding = form.encoding or "utf-8"
        try:
            text = in_utf8(chain((first,), content), encoding, path)
        except LookupError:
            words = f"there is no encoding {form.encoding}"
            raise file_problem("file.encoding", words, "correct it in the definition") from None
        try:
            yield from CsvReader(form, self._reading.columns).read(text, path)
        except UnicodeDecodeError as error:
            raise wrong_encoding(path, encoding, str(error)) from None

    def _find_out(self, first: bytes, path: str) -> CsvFormat:
        said = self._reading.options(CsvFormat)
        if said.delimiter is None and plain_name(path).lower().endswith(".tsv"):
            said = said.model_copy(update={"delimiter": "\t"})
        self._written = sniffed_format(first, said)
        self.found_out: dict[str, Any] | None = self._written.model_dump(mode="json")
        return self._written

    @override
    def described(self) -> str:
        return description(self._written) if self._written is not None else ""
