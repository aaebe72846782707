"""One pass over a table for several warehouses: what is read once is handed to each, in a thread of its own.

Warehouses at the same position (by saved cursor, or by loaded files) share a pass. One that is behind because its last load failed reads
separately until it has caught up. What is new is decided by each warehouse, from its own cursor and state.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Generator, Iterator
from contextlib import closing
from dataclasses import replace
from typing import Any

from typing_extensions import override

from ...records.bounded_queue import MOST_WAITING_BYTES, BoundedQueue
from ...shaping.shared_batch import SharedBatch
from ...sources.batching import gathered
from ...sources.chunk import Chunk
from ..planning.matched_tables import MatchedTables
from ..planning.order import ResolvedRun, ResolvedTable
from .source_session import ReadStart, SourceSession
from .spool import Spool
from .table_reader import TableReader

# Of each: what one has taken and another has not is held with what it was shaped to.
_MOST_WAITING_BYTES = MOST_WAITING_BYTES // 2


class SharedTable:
    """The pass over one table that several warehouses share. `_changed` guards everything below it."""

    def __init__(self, count: int, rows_per_commit: int) -> None:
        self._changed = threading.Condition()
        self._count = count
        self._commit_every = rows_per_commit
        self._joined: list[_Branch] = []
        # Have ended without taking part.
        self._never = 0
        # Passes go one after the other: a database is read over one connection.
        self.one_pass = threading.Lock()

    def leave(self, branch: _Branch | None) -> None:
        """A warehouse has ended; None if it ended before it began a pass."""
        if branch is not None:
            branch.close()
        with self._changed:
            self._never += branch is None or branch not in self._joined
            self._changed.notify_all()

    def again(self, before: _Branch, branch: _Branch) -> None:
        """The table is read again: another branch, separately, replaces one that took part."""
        before.close()
        with self._changed:
            self._joined = [branch if one is before else one for one in self._joined]

    def chunks(self, branch: _Branch) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        """The records for one branch, once all warehouses have arrived. Those at the same position share a pass, which the first of them
        reads. A second call, after a damaged file, makes each go on separately from its own position.
        """
        with self._changed:
            if branch in self._joined:
                return self._pass(branch)
            # As of now: what is committed on the way moves it.
            branch.begins = branch.reader.begins
            self._joined.append(branch)
            self._changed.notify_all()
            self._changed.wait_for(lambda: len(self._joined) + self._never >= self._count)
            together = [one for one in self._joined if one.begins == branch.begins]
            if len(together) > 1 and together[0] is branch:
                for other in together[1:]:
                    other.reader.share_chunks_of(branch.reader)
                threading.Thread(target=self._read, args=(together,), name="read for several", daemon=True).start()
        return branch if len(together) > 1 else self._pass(branch)

    def _pass(self, branch: _Branch) -> Generator[Chunk, None, None]:
        with self.one_pass:
            yield from branch.reader.chunks()

    def _read(self, together: list[_Branch]) -> None:
        error: BaseException | None = None
        try:
            with closing(self._pass(together[0])) as chunks:
                records, began = 0, time.monotonic()
                for chunk in gathered(chunks, self._commit_every):
                    taken = time.monotonic() - began
                    batch = replace(chunk, once=SharedBatch(records))
                    records += len(chunk.records)
                    # Waits for the slowest: memory stays bounded by what each may have waiting.
                    for branch in together:
                        branch.reading_seconds += taken
                        branch.put(batch)
                    if all(branch.closed for branch in together):
                        break
                    began = time.monotonic()
        except BaseException as failed:  # each raises it where it is
            error = failed
        finally:
            for branch in together:
                branch.end(error)


class _Branch(BoundedQueue[Chunk]):
    """One warehouse's view of a pass."""

    def __init__(self, reader: TableReader) -> None:
        super().__init__(_MOST_WAITING_BYTES)
        self.reader = reader
        self.begins: Any = None


class SharedSession(SourceSession):
    """A session for one of several warehouses. Only the chunks of a pass are shared."""

    def __init__(self, session: SourceSession, shared: SharedTable) -> None:
        self._session = session
        self._shared = shared
        self.mask = session.mask
        self.branch: _Branch | None = None

    @override
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        return self._session.match_tables(order)

    @override
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> TableReader:
        """A reader that shares a pass with the other warehouses if it begins at the same position."""
        with self._shared.one_pass:  # a database is asked over one connection
            reader = self._session.open_reader(table, start)
        before, self.branch = self.branch, _Branch(reader)
        if before is not None:
            self._shared.again(before, self.branch)
        return reader

    @override
    def begin(self, reader: TableReader) -> None:
        with self._shared.one_pass:
            reader.begin()

    @override
    def chunks(self, reader: TableReader) -> Iterator[Chunk] | BoundedQueue[Chunk]:
        assert self.branch is not None and self.branch.reader is reader
        return self._shared.chunks(self.branch)

    @override
    def has_dependents(self, table: str) -> bool:
        return self._session.has_dependents(table)

    @override
    def keep(self, table: str, since: Any, spool: Spool) -> None:
        self._session.keep(table, since, spool)

    @override
    def acknowledge(self) -> None:
        self._session.acknowledge()

    @override
    def close(self) -> None:
        self._session.close()
