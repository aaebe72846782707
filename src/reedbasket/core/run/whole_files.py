"""The files' own straight lane: Parquet files that need no shaping beyond SQL are read by the warehouse itself, in its commit.

What is brought is what columns would bring. Where the warehouse cannot read one after all, nothing of it was committed, and the rows come
in columns.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass

import pyarrow as pa

from ..extract.files.parquet_whole import ParquetWhole, parquet_whole
from ..extract.files.store import Store
from ..load.warehouse import Load
from ..shape.columns import ColumnWork
from ..shape.rules import Change
from ..shape.shaper import Shaper
from ..spec.model import FeedTable
from .manifest import Due
from .pass_through import Passed, structure_of

# Each is held open until it is loaded.
_MOST_FILES = 64
_SHAPING = ("only", "leave_out", "cast", "compute", "hash", "keep", "constants", "noted", "copy_")


@dataclass
class WholeFiles:
    """passed: is told how many rows each has, once all are handed to the load."""

    files: list[tuple[Due, ParquetWhole]]
    passed: Callable[[Sequence[int]], None]

    def bring(
        self, shaper: Shaper, columns: ColumnWork, load: Load, told: Callable[[list[Change]], None], went: Callable[[int], None]
    ) -> Passed | None:
        """See pass_through.bring."""
        pairs = structure_of(self.files[0][1].empty, shaper, told) if load.takes_files else None
        if pairs is None:
            self.close()
            return None
        family = columns.lay_out(shaper.family)
        rows = 0
        for due, whole in self.files:
            load.take_file(family, whole, {target: source for source, target in pairs}, due.line.number)
            rows += whole.rows
            went(rows)
        load.passed_through(rows)
        self.passed([whole.rows for _, whole in self.files])
        return Passed(sum(due.info.size for due, _ in self.files), misfits=False)

    def close(self) -> None:
        for _, whole in self.files:
            whole.file.close()


def whole_files(
    store: Store, due: Sequence[Due], own: FeedTable, key: Sequence[str], passed: Callable[[Sequence[int]], None]
) -> WholeFiles | None:
    """None where the rows have to come in columns. own: what the feed says of the table."""
    shaped = any(getattr(own, name) for name in _SHAPING if name != "noted") or own.noted.file or own.noted.line
    if shaped or not 0 < len(due) <= _MOST_FILES or not hasattr(store, "local"):
        return None
    found: list[tuple[Due, ParquetWhole]] = []
    with suppress(pa.ArrowInvalid, OSError):
        for one in due:
            file = store.local(one.info)
            whole = parquet_whole(one.info.path, file, key) if file is not None else None
            if whole is None or (found and not whole.empty.schema.equals(found[0][1].empty.schema, check_metadata=True)):
                if file is not None:
                    file.close()
                break
            found.append((one, whole))
    made = WholeFiles(found, passed)
    if len(found) < len(due):
        made.close()
        return None
    return made
