"""What a run needs of its source, whatever the source is: which tables it has, and a reader of each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ...masking import Mask
from ...records.bounded_queue import BoundedQueue
from ...records.position import SavedCursor
from ...shaping.fast_path import Expected
from ...sources.chunk import Chunk
from ..planning.matched_tables import Held, MatchedTables
from ..planning.order import ResolvedRun, ResolvedTable
from .spool import Spool
from .table_reader import TableReader


@dataclass(frozen=True)
class ReadStart:
    """Where a read of a table begins, and what is known of the table already.

    Attributes:
        saved: how far the table has been read; None for not at all.
        until: windows are read to here; None for the run's start.
        expected: gives the columns in which records are to be read, once they are known; None where records come one by one.
        held: what the warehouse has of the table; of files needed to tell which are new.
    """

    saved: SavedCursor | None = None
    until: datetime | None = None
    expected: Callable[[], Expected | None] | None = None
    held: Held | None = None


class SourceSession(ABC):
    """A source opened for one run. To be closed by whoever opened it.

    Attributes:
        mask: blanks the source's secrets.
    """

    mask: Mask

    @abstractmethod
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        """The order with its tables as they are at the source. Raises SourceError."""

    @abstractmethod
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> TableReader:
        """A reader of one table, for one pass over it.

        Args:
            table: as the feed reads it.
            start: where the read begins.
        """

    def begin(self, reader: TableReader) -> None:
        """Prepare a reader of this session before its chunks are taken.

        Raises:
            SourceError: what it needs is not there.
        """
        reader.begin()

    def chunks(self, reader: TableReader) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """What a reader of this session brings."""
        return reader.chunks()

    def has_dependents(self, table: str) -> bool:
        """Whether other tables are read by this one's records, so that they are put aside."""
        return False

    def keep(self, table: str, since: Any, spool: Spool) -> None:
        """Put a table's records aside for the tables that are read by them.

        Args:
            table: its name.
            since: the cursor's value from which they were read.
            spool: the records; it is closed once nobody needs them.
        """
        spool.close()

    def acknowledge(self) -> None:  # noqa: B027 - most keep nothing for us
        """At the end of a run, tell the source that it may let go of what the warehouse has.

        Raises:
            SourceError: it cannot be told.
        """

    @abstractmethod
    def close(self) -> None:
        """Let go of the source. May be called twice."""
