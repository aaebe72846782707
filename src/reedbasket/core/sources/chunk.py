"""What a reader yields."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ..shaping.shared_batch import SharedBatch


@dataclass(frozen=True)
class Origin:
    """Where so many records came from: a file, by its number, and the line of each in it, worked out where somebody asks."""

    records: int
    number: int
    path: str
    lines: Callable[[], Sequence[int]]


@dataclass(frozen=True)
class Misread:
    """A line of a file that no record could be made of. number: of the file."""

    path: str
    number: int
    line: int
    code: str
    message: str
    text: str


@dataclass(frozen=True)
class Chunk:
    """Records that arrived together, as parsed JSON objects or in columns, in the source's order.

    body_bytes: the size of the body they came in. misfits: members of the list that are no objects, as they came.
    total: how many records the source says the pass has, where it says so. suspicious: the body came through the lenient
    parser, so its text may hold lone surrogates. mark: of a table read in several passes, the pass that ends with this chunk:
    everything up to it has been read. origins: of records out of files, one behind the other; misfits of files are Misread.
    once: of a batch handed to several as it is, what it was shaped to. repeated: records that were left out, for the page before had
    them already.
    """

    records: Sequence[dict[str, Any]]
    body_bytes: int
    misfits: list[Any]
    total: int | None = None
    suspicious: bool = False
    mark: Any = None
    origins: tuple[Origin, ...] = ()
    once: SharedBatch | None = None
    repeated: int = 0
