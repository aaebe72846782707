"""What a format does: one file's bytes to its records."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

from ....shaping.fast_path import Expected
from ....spec.files import FileFormat
from .part import FilePart
from .text_columns import Columns

F = TypeVar("F", bound=FileFormat)


@dataclass(frozen=True)
class Reading:
    """What is known of the files of one table before one is read.

    Attributes:
        form: what the definition says of how they are written.
        columns: what the table's columns hold; grows from file to file.
        expected: what records are expected to be by now, to be read straight into columns.
        found_out: how files turned out to be written, as a reader of the same format kept it before; None for nothing.
    """

    form: FileFormat
    columns: Columns
    expected: Callable[[], Expected | None] = lambda: None
    found_out: dict[str, Any] | None = None

    def options(self, of: type[F]) -> F:
        """What is said of one format; its defaults where files are told by their names and nothing is said of it."""
        return self.form if isinstance(self.form, of) else of()


class FormatReader(ABC):
    """Reads the files of one table, one after the other.

    Attributes:
        found_out: how files turned out to be written, as JSON; None where there is nothing to find out.
    """

    found_out: dict[str, Any] | None = None

    def __init__(self, reading: Reading) -> None:
        self._reading = reading

    @abstractmethod
    def read(self, content: Any, path: str) -> Iterator[FilePart]:
        """The records of one file.

        Args:
            content: its bytes: an iterator of parts, or, of a format that is read as a whole, a file that can be sought in.
            path: of the file, for errors.

        Raises:
            FileProblem: it cannot be read whole.
            SourceError: of the store, passed on.
        """

    def described(self) -> str:
        """What was found out, as people read it; '' for nothing."""
        return ""
