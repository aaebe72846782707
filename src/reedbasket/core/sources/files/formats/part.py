"""What the reader of a format yields."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa


@dataclass(frozen=True)
class UnreadablePart:
    """A line or a row that is not a record: its place in the file, the reason, and itself."""

    line: int
    code: str
    message: str
    text: str


@dataclass(frozen=True)
class FilePart:
    """Some records of one file, in its order.

    Attributes:
        records: columns as shape.typed needs them, or objects.
        lines: the line on which each begins (the row of a sheet, the number of a record without lines), counted from 1; computed on demand.
        size: bytes, roughly.
        suspicious: texts may contain lone surrogates.
        member: of an archive that contains them.
    """

    columns: pa.Table | None
    records: Sequence[dict[str, Any]]
    lines: Callable[[], Sequence[int]]
    size: int
    unread: list[UnreadablePart] = field(default_factory=list)
    suspicious: bool = False
    member: str = ""

    def __len__(self) -> int:
        return len(self.records) if self.columns is None else int(self.columns.num_rows)
