"""What a run needs from its source, whatever kind it is: which tables it has, and a reader of each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from ...masking import Mask
from ...records.bounded_queue import BoundedQueue
from ...records.position import SavedCursor
from ...shaping.fast_path import ExpectedColumns
from ...sources.chunk import Chunk
from ..planning.matched_tables import LoadedTable, MatchedTables
from ..planning.order import ResolvedRun, ResolvedTable
from .spool import Spool
from .table_reader import TableReader


@dataclass(frozen=True)
class ReadStart:
    """Where the read of a table begins, and what is known of the table.

    Attributes:
        saved: how far the table has been read; None for not at all.
        until: read windows up to here; None for the start of the run.
        expected: gives the columns in which to read records, once they are known; None to read records one by one.
        held: what the warehouse has of the table; files need it to tell which are new.
    """

    saved: SavedCursor | None = None
    until: datetime | None = None
    expected: Callable[[], ExpectedColumns | None] | None = None
    held: LoadedTable | None = None


class SourceSession(ABC):
    """A source opened for one run. Whoever opened it closes it.

    Attributes:
        mask: masks the source's secrets.
    """

    mask: Mask

    @abstractmethod
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        """The run, with its tables as they are at the source.

        Raises:
            SourceError: the source cannot be read.
        """

    @abstractmethod
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> TableReader:
        """A reader of one table, for one pass.

        Args:
            table: as the feed reads it.
            start: where the read begins.
        """

    def begin(self, reader: TableReader) -> None:
        """Prepare a reader of this session before its chunks are read.

        Raises:
            SourceError: what it needs does not exist.
        """
        reader.begin()

    def chunks(self, reader: TableReader) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """The chunks of a reader of this session."""
        return reader.chunks()

    def has_dependents(self, table: str) -> bool:
        """Whether other tables are read by this table's records, so that they have to be kept."""
        return False

    def keep(self, table: str, since: Any, spool: Spool) -> None:
        """Keep a table's records for the tables that are read by them.

        Args:
            table: its name.
            since: the cursor's value from which they were read.
            spool: the records; it is closed once nobody needs them.
        """
        spool.close()

    def acknowledge(self) -> None:  # noqa: B027 - most keep nothing for us
        """At the end of a run, tell the source that it may drop what the warehouse has.

        Raises:
            SourceError: that failed.
        """

    @abstractmethod
    def close(self) -> None:
        """Close the source. May be called twice."""
