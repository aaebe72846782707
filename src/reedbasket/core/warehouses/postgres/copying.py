"""Sending rows to PostgreSQL: small batches are joined, and sent while the next ones are made.

One long COPY is fed while it runs. Each COPY of its own costs a round trip, a plan and a wait for the server: in pieces of 50,000 rows, a
million rows take nearly half as long again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from queue import Full, Queue
from typing import Any, TypeAlias

import adbc_driver_manager
import psycopg
import pyarrow as pa

# Pieces worth sending; what waits beyond them is a piece or two.
_ROWS_AT_ONCE = 25_000
_BYTES_AT_ONCE = 8 * 1024 * 1024
_MOST_WAITING = 2
# How soon a full queue notices that the COPY has failed.
_LOOK_SECONDS = 0.2

Rows: TypeAlias = "pa.Table | pa.RecordBatchReader"


class Sending:
    """The rows that wait to be sent, by table.

    Args:
        copy: puts rows into a table; called directly for a few, and from a separate thread for more.
    """

    def __init__(self, copy: Callable[[str, Rows], None]) -> None:
        self._copy = copy
        self._executor = ThreadPoolExecutor(1, thread_name_prefix="send to postgres")
        self._going: _Copying | None = None
        self._waiting: dict[str, list[pa.Table]] = {}

    def add(self, table: str, rows: pa.Table) -> None:
        """Add rows. Raises whatever the COPY failed with."""
        waiting = self._waiting.setdefault(table, [])
        waiting.append(rows)
        if sum(r.num_rows for r in waiting) < _ROWS_AT_ONCE and sum(r.nbytes for r in waiting) < _BYTES_AT_ONCE:
            return
        for name, piece in self._pieces():
            if self._going is None or not self._going.takes(name, piece.schema):
                self._end()
                # The server takes as long to write rows as we do to make the next.
                self._going = _Copying(name, piece.schema, self._executor, partial(self._copy, name))
            self._put(self._going, piece)

    def flush(self) -> None:
        """Wait until everything has arrived. Raises whatever the COPY failed with."""
        for name, piece in self._pieces():
            if self._going is not None and self._going.takes(name, piece.schema):
                self._put(self._going, piece)
            else:
                self._end()
                self._copy(name, piece)
        self._end()

    def abandon(self) -> None:
        """Drop what waits. An error of the COPY was raised before."""
        self._waiting.clear()
        with suppress(adbc_driver_manager.Error, psycopg.Error):
            self._end()

    def close(self) -> None:
        """Drop what waits, and end the thread."""
        self.abandon()
        self._executor.shutdown()

    def _put(self, going: _Copying, piece: pa.Table) -> None:
        try:
            going.put(piece)
        except BaseException:
            self._going = None  # what failed is told once, and stands in nobody's way
            raise

    def _end(self) -> None:
        going, self._going = self._going, None
        if going is not None:
            going.end()

    def _pieces(self) -> Iterator[tuple[str, pa.Table]]:
        """What waits, by table and columns."""
        waiting, self._waiting = self._waiting, {}
        for table, parts in waiting.items():
            by_columns: dict[str, list[pa.Table]] = {}
            for part in parts:
                by_columns.setdefault(str(part.schema), []).append(part)
            for alike in by_columns.values():
                yield table, pa.concat_tables(alike)


class _Copying:
    """A COPY into one table. The caller's thread uses `put` and `end`; the COPY itself runs in the executor's."""

    def __init__(self, table: str, schema: pa.Schema, executor: Executor, copy: Callable[[pa.RecordBatchReader], None]) -> None:
        self._table = table
        self._schema = schema
        self._waiting: Queue[pa.Table | None] = Queue(_MOST_WAITING)
        reader = pa.RecordBatchReader.from_batches(schema, self._batches())
        self._done: Future[Any] = executor.submit(copy, reader)

    def takes(self, table: str, schema: pa.Schema) -> bool:
        return table == self._table and schema.equals(self._schema)

    def put(self, rows: pa.Table | None) -> None:
        """Add rows. Raises whatever the COPY failed with."""
        while True:
            if self._done.done():
                self._done.result()
            try:
                self._waiting.put(rows, timeout=_LOOK_SECONDS)
            except Full:
                continue
            return

    def end(self) -> None:
        """End the COPY. Raises whatever it failed with."""
        self.put(None)
        self._done.result()

    def _batches(self) -> Iterator[pa.RecordBatch]:
        while (rows := self._waiting.get()) is not None:
            yield from rows.to_batches()
