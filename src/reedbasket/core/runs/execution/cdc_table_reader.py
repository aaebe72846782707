"""Reading a table by change data capture: first a snapshot of the whole table, then the changes in the database's log."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from typing_extensions import override

from ...changes.cdc_structure import structure_of, unlogged_change
from ...records.bounded_queue import BoundedQueue
from ...records.position import SavedCursor
from ...sources.chunk import Chunk
from ...sources.requests_seen import RequestSeen
from ...sources.sql import Column
from ...sources.sql.changelog import CdcPositionLost, ChangeLog, LogName, log_name
from ...wording import many, size
from ..checkpoints.ranges import RangeCheckpoint
from ..planning.column_selection import select_column
from ..planning.order import ResolvedSource
from ..planning.table_selection import ChosenTable
from .database_table_reader import DatabaseTableReader

if TYPE_CHECKING:
    from .database_session import DatabaseSession


@dataclass
class FollowedLog:
    """A change log and the tables of the feed that follow it.

    Attributes:
        positions: how far each warehouse has each table, by (table, the pass that loads it there). Once all of them are known, the
            database may drop what lies before them.
    """

    log: ChangeLog
    tables: list[ChosenTable]
    warehouses: int
    positions: dict[tuple[str, CdcTableReader], str]
    prepared: bool = False
    told: bool = False

    def acknowledge(self) -> None:
        """Tell the database how far its log is committed, once every table is committed in every warehouse."""
        known = Counter(table for table, _ in self.positions)
        if self.prepared and all(known[chosen.name] >= self.warehouses for chosen in self.tables):
            self.log.confirm(list(self.positions.values()))


class CdcTableReader(DatabaseTableReader):
    """Reads a table by its change log; see TableReader. Before `begin` is called, it only describes what it would do."""

    def __init__(
        self,
        reading: DatabaseSession,
        order: ResolvedSource,
        chosen: ChosenTable,
        saved: SavedCursor | None,
        seen: Callable[[RequestSeen], None],
        followed: FollowedLog,
        *,
        accept: bool,
    ) -> None:
        """Prepare to read; nothing is read yet.

        Args:
            accept: read the whole table again if the log no longer has what follows the saved position, instead of failing.
        """
        super().__init__(reading, order, chosen, saved, seen)
        self._followed = followed
        self._accept = accept
        self._position = saved.value if saved is not None and saved.kind == "cdc" else None
        self._structure = structure_of(chosen.table)
        self._untold = unlogged_change(saved.column, chosen.table) if saved is not None and saved.kind == "cdc" else ""
        # Of a table that is being read in ranges: where the log stood when the first of them was.
        self._start = self._midst.then.value if self._midst is not None and self._midst.then is not None else ""
        self._reached: str | None = None
        self.from_text = self._position or self.from_text
        self._chosen = chosen
        left_out = [column.name for column in self._chosen.table.columns if column.generated]
        if left_out:
            words = (
                "the change log does not contain generated columns, so they are left out: "
                f"{', '.join(left_out)}; the feed can `compute` them"
            )
            self.notes.append(("warning", "cdc.generated_skipped", words))

    @property
    @override
    def is_cdc(self) -> bool:
        return self._position is not None

    @override
    def begin(self) -> None:
        """Find where in the log to start.

        Raises:
            CdcPositionLost: only a new snapshot would help.
            SourceError: the log cannot be read.
        """
        followed = self._followed
        if not followed.prepared:
            made = followed.log.prepare([chosen.table for chosen in followed.tables])
            followed.prepared = True
            if made:
                self.notes.append(("info", "cdc.started", made))
        before = self._position or self._start
        if before:
            try:
                followed.log.require(before)
                followed.positions[self._chosen.name, self] = before
            except CdcPositionLost as lost:
                if not self._accept:
                    raise
                self._read_anew(f"{lost.found}; as accepted, the whole table is read again")
            else:
                if self._untold and self._position is not None:
                    self._read_anew(f"{self._untold}, which the log does not show: the whole table is read again")
        if self._position is None and not self._start:
            self._start = followed.log.here()

    def _read_anew(self, why: str) -> None:
        self.notes.append(("warning", "cdc.reloaded", why))
        self._position = self.from_text = None
        self._start = ""
        self._midst = RangeCheckpoint(None, None) if self._chosen.range_column is not None else None

    @override
    def committed(self, cursor: SavedCursor | None) -> None:
        super().committed(cursor)
        if cursor is not None:
            self._followed.positions[self._chosen.name, self] = cursor.value if cursor.kind == "cdc" else self._start

    @override
    def chunks(self) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        return self._whole() if self._position is None else self._changes()

    def _changes(self) -> Iterator[Chunk]:
        assert self._position is not None
        log, began, taken, rows = self._followed.log, time.monotonic(), 0, 0
        for part in log.parts(self._chosen.table, self._chosen.key, self._position, self._as_column):
            taken, rows = taken + part.messages_bytes, rows + len(part.records)
            self._reached = part.position
            mark = SavedCursor("cdc", part.position, None, self._structure) if part.position else None
            yield Chunk(part.records, part.messages_bytes, [], mark=mark)
        self._reached = log.after(self._position)
        words = f"the log from {self._position} to {self._reached}"
        self._seen(RequestSeen("LOG", words, None, time.monotonic() - began, taken, 1, 0.0, ""))
        self._lag = lag = log.lag()
        if lag is not None:
            late = "" if lag.seconds is None else f" and {lag.seconds:,.1f} s"
            ahead = f"the log was {size(lag.size)}{late} ahead, {many(lag.transactions, 'transaction')}"
            # It is the same for all tables that follow it.
            told = f"{many(rows, 'change')} read" + ("" if self._followed.told else f"; {ahead}")
            self._followed.told = True
            self.ended_notes.append(("info", "cdc.read", told))

    @override
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(the statement or log that would be read, the first records).

        Raises:
            SourceError: a run could not follow the log.
        """
        self._followed.log.look([chosen.table for chosen in self._followed.tables], self._position or self._start or None)
        if self._position is None or self._untold:
            return super().sample()
        return f"the log from {self._position} on", iter(())

    @override
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        if self._position is not None:
            return None, None
        return self._chosen.table.rows, 1

    @property
    @override
    def reads_everything(self) -> bool:
        # What is left of the ranges is not all.
        return self._position is None and (self._midst is None or self._midst.below is None)

    @property
    @override
    def commits_only_large_loads(self) -> bool:
        return True

    @property
    @override
    def can_commit(self) -> bool:
        return self._done is not None

    def _after_ranges(self) -> SavedCursor | None:
        # The first of the ranges were read when the table looked as it did then.
        then = self._midst.then if self._midst is not None else None
        return SavedCursor("cdc", self._start, None, then.column if then is not None else self._structure)

    @override
    def position(self, *, ended: bool) -> SavedCursor | None:
        if not ended:
            return self._done
        if self._position is None:
            return self._after_ranges()
        return SavedCursor("cdc", self._told_to or self._position, None, self._structure)

    @property
    @override
    def has_progress(self) -> bool:
        if self._position is None:
            return True
        return self._told_to not in (None, self._position) and self._followed.log.has_changes()

    @property
    @override
    def begins(self) -> Any:
        return self._position, self._start, super().begins

    @property
    def _told_to(self) -> str | None:
        return self._leader._reached

    def _as_column(self, column: Column) -> Column | None:
        return select_column(self._chosen, column, self._reading.database.as_text)


def log_name_of(chosen: ChosenTable, feed: str) -> LogName:
    """The name under which the database keeps its log for a table of a feed."""
    changes = chosen.changes
    return log_name(feed, changes.slot if changes else None, changes.publication if changes else None)
