"""What a reader of one format yields."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa


@dataclass(frozen=True)
class Unread:
    """A line, or a row, that no record could be made of: where it stands in its file, why, and itself."""

    line: int
    code: str
    message: str
    text: str


@dataclass(frozen=True)
class FilePart:
    """Some records of one file, in its order: columns as shape.typed wants them, or objects.

    lines: the line (of a sheet the row, of records without lines their number) that each of them begins on, counted from 1; worked out
    only where somebody asks. size: bytes, about. suspicious: texts may hold lone surrogates. member: of an archive, which they stand in.
    """

    columns: pa.Table | None
    records: Sequence[dict[str, Any]]
    lines: Callable[[], Sequence[int]]
    size: int
    unread: list[Unread] = field(default_factory=list)
    suspicious: bool = False
    member: str = ""

    def __len__(self) -> int:
        return len(self.records) if self.columns is None else int(self.columns.num_rows)
