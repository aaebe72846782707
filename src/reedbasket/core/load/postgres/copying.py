"""One long COPY that is fed while it goes on: each by itself costs a round trip, a plan, and a wait for the server to be through with
it; in pieces of 50,000 rows a million take half as long again."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from queue import Full, Queue
from typing import Any

import pyarrow as pa

# Pieces that wait to be sent; their size is the caller's.
_MOST_WAITING = 2
# How soon a full queue notices that the COPY has failed.
_LOOK_SECONDS = 0.2


class Copying:
    """A COPY into one table. Caller's thread: `put`, `end`. The executor's: the COPY itself."""

    def __init__(self, table: str, schema: pa.Schema, executor: Executor, copy: Callable[[pa.RecordBatchReader], Any]) -> None:
        """copy: sends all that the reader brings."""
        self.table = table
        self._schema = schema
        self._waiting: Queue[pa.Table | None] = Queue(_MOST_WAITING)
        reader = pa.RecordBatchReader.from_batches(schema, self._batches())
        self._done: Future[Any] = executor.submit(copy, reader)

    def takes(self, table: str, schema: pa.Schema) -> bool:
        return table == self.table and schema.equals(self._schema)

    def put(self, rows: pa.Table | None) -> None:
        """Raises what the COPY failed with."""
        while True:
            if self._done.done():
                self._done.result()
            try:
                self._waiting.put(rows, timeout=_LOOK_SECONDS)
            except Full:
                continue
            return

    def end(self) -> None:
        """Everything has arrived. Raises what the COPY failed with."""
        self.put(None)
        self._done.result()

    def _batches(self) -> Iterator[pa.RecordBatch]:
        while (rows := self._waiting.get()) is not None:
            yield from rows.to_batches()
