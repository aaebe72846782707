"""Records kept for a second pass: in memory while they are few, then in a temporary file."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from tempfile import SpooledTemporaryFile
from typing import Any

import orjson

from ...records import json_body
from ...records.exact_json import dump_lenient

_IN_MEMORY_BYTES = 4 * 1024 * 1024


class Spool:
    """Written by one thread, then read by one."""

    def __init__(self) -> None:
        self._file = SpooledTemporaryFile(_IN_MEMORY_BYTES)  # noqa: SIM115 (it is closed with the run)
        self.count = 0

    def add(self, records: Sequence[dict[str, Any]]) -> None:
        """Add records at the end."""
        lines = []
        for record in records:
            try:
                lines.append(orjson.dumps(record))
            except TypeError:  # values that only our own writer knows
                lines.append(dump_lenient(record).encode("utf-8", "surrogatepass"))
        if lines:
            self._file.write(b"\n".join(lines) + b"\n")
        self.count += len(lines)

    def batches(self, size: int = 500) -> Iterator[list[dict[str, Any]]]:
        """All records in order, `size` at a time."""
        self._file.seek(0)
        batch: list[dict[str, Any]] = []
        for line in self._file:
            batch.append(json_body.parse(line)[0])
            if len(batch) >= size:
                yield batch
                batch = []
        if batch:
            yield batch

    def close(self) -> None:
        """Remove the records."""
        self._file.close()
