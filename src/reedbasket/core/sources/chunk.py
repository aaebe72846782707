"""What a reader yields."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ..shaping.shared_batch import SharedBatch


@dataclass(frozen=True)
class Origin:
    """The file that some records came from, by its number, and the line of each, computed on demand."""

    records: int
    number: int
    path: str
    lines: Callable[[], Sequence[int]]


@dataclass(frozen=True)
class UnreadableLine:
    """A line of a file that is not a record; number: of the file."""

    path: str
    number: int
    line: int
    code: str
    message: str
    text: str


@dataclass(frozen=True)
class Chunk:
    """Records that arrived together, as parsed JSON objects or in columns, in the source's order.

    Attributes:
        body_bytes: the size of the body they came in.
        misfits: members of the list that are not objects, as they arrived; of files, UnreadableLine.
        total: how many records the pass has according to the source, if it says so.
        suspicious: the body was parsed leniently, so texts may contain lone surrogates.
        mark: if a table is read in several passes, the position once everything up to this chunk has been read.
        origins: of records from files, in order.
        once: what a batch that several warehouses share was shaped to.
        repeated: records that were left out because the page before had them already.
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
