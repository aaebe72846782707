"""Reading one file's records, whatever its compression and format."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import cache
from typing import Any

from ...kinds import FORMATS, load
from ...shaping.fast_path import ExpectedColumns
from ...spec.files import FileFormat
from ..html import is_html
from .formats.part import FilePart
from .formats.reading import FormatReader, ReadingContext
from .formats.text_columns import Columns
from .problems import file_problem
from .store import FileInfo
from .unpack import CHUNK, SizeLimit, is_zip, members, opened, plain_name


@cache
def _by_ending() -> dict[str, str]:
    """{ending of a name: format}."""
    return {ending: name for name in FORMATS.names() for ending in FORMATS.get(name).endings}


class FileReader:
    """Reads the files of one table, one after the other.

    Attributes:
        found_out: {format: what was detected about how files are written}; kept from the first file on.
    """

    def __init__(
        self,
        form: FileFormat,
        columns: Columns,
        found_out: Mapping[str, dict[str, Any]] | None = None,
        expected: Callable[[], ExpectedColumns | None] = lambda: None,
    ) -> None:
        """Prepare to read.

        Args:
            found_out: from earlier runs.
            expected: the columns that records are expected to have.
        """
        self._form = form
        self._columns = columns
        self._expected = expected
        self._found_out = dict(found_out or {})
        self._readers: dict[str, FormatReader] = {}

    @property
    def found_out(self) -> dict[str, dict[str, Any]]:
        """What is detected by now."""
        now = {name: reader.found_out for name, reader in self._readers.items()}
        return self._found_out | {name: found for name, found in now.items() if found is not None}

    def described(self, name: str) -> str:
        """What was detected about a format, as people read it; '' for nothing."""
        return self._readers[name].described() if name in self._readers else ""

    def format_of(self, path: str) -> str | None:
        """The format as declared, otherwise by the file's name; None if neither tells."""
        return self._form.type or _by_ending().get(plain_name(path).rpartition(".")[2].lower())

    def read(self, info: FileInfo, content: Any) -> Iterator[FilePart]:
        """The records of one file.

        Raises:
            FileProblem: the file cannot be loaded as a whole.
            SourceError: the store failed.
        """
        path = info.path
        if info.size == 0:
            return
        bounded = SizeLimit(path, info.size, self._form.max_unpacked)
        said = self._form.type
        if is_zip(path) and not (said is not None and FORMATS.get(said).zipped):
            for name, member in members(content, path, self._form.members):
                for part in self._plain(f"{path}/{name}", member, bounded):
                    yield replace(part, member=name)
            return
        yield from self._plain(path, content, bounded)

    def _plain(self, path: str, content: Any, bounded: SizeLimit) -> Iterator[FilePart]:
        name = self.format_of(path)
        if name is None:
            words = f"the format of {path} is not known"
            raise file_problem(
                "file.unreadable", words, f"give its format: `format: csv`, or one of {', '.join(FORMATS.names())}"
            )
        if name not in self._readers:
            self._readers[name] = self._begin(name)
        if FORMATS.get(name).whole:
            yield from self._seekable(self._readers[name], path, content, bounded)
        else:
            yield from self._readers[name].read(_data(opened(content, path, bounded), path), path)

    def _begin(self, name: str) -> FormatReader:
        kind = FORMATS.get(name)
        module, _, made = kind.reader.partition(":")
        reading = ReadingContext(self._form, self._columns, self._expected, self._found_out.get(name))
        reader: FormatReader = getattr(load(module, kind.extra), made)(reading)
        return reader

    def _seekable(self, reader: FormatReader, path: str, content: Any, bounded: SizeLimit) -> Iterator[FilePart]:
        if plain_name(path) == path and content.seekable():
            yield from reader.read(content, path)
            return
        with tempfile.TemporaryFile() as held:
            for part in opened(content, path, bounded):
                held.write(part)
            held.seek(0)
            yield from reader.read(held, path)


def _data(parts: Iterator[bytes], path: str) -> Iterator[bytes]:
    """The same parts. Raises FileProblem where they are a page of HTML."""
    first = next(parts, b"")
    if is_html(first[:512]):
        words = f"{path} is an HTML page, probably downloaded in place of the file"
        raise file_problem("file.unreadable", words, "replace it with the file")
    yield first
    yield from parts


__all__ = ["CHUNK", "FileReader"]
