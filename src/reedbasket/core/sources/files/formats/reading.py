"""What a format provides: it turns the bytes of one file into records."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

from ....shaping.fast_path import ExpectedColumns
from ....spec.files import FileFormat
from .part import FilePart
from .text_columns import Columns

F = TypeVar("F", bound=FileFormat)


@dataclass(frozen=True)
class ReadingContext:
    """What is known about the files of one table before one is read.

    Attributes:
        form: what the definition says about how they are written.
        columns: the types of the table's columns; grows from file to file.
        expected: the columns that records are expected to have, to be read directly into columns.
        found_out: what a reader of the same format detected before; None for nothing.
    """

    form: FileFormat
    columns: Columns
    expected: Callable[[], ExpectedColumns | None] = lambda: None
    found_out: dict[str, Any] | None = None

    def options(self, of: type[F]) -> F:
        """The options of one format; its defaults if files are identified by name and nothing is said about it."""
        return self.form if isinstance(self.form, of) else of()


class FormatReader(ABC):
    """Reads the files of one table, one after the other.

    Attributes:
        found_out: what was detected about how files are written, as JSON; None if there is nothing to detect.
    """

    found_out: dict[str, Any] | None = None

    def __init__(self, reading: ReadingContext) -> None:
        self._reading = reading

    @abstractmethod
    def read(self, content: Any, path: str) -> Iterator[FilePart]:
        """The records of one file.

        Args:
            content: its bytes: an iterator of parts, or, for a format that is read as a whole, a seekable file.
            path: of the file, for errors.

        Raises:
            FileProblem: it cannot be read as a whole.
            SourceError: from the store.
        """

    def described(self) -> str:
        """What was detected, as people read it; '' for nothing."""
        return ""
