"""The files' own straight lane: Parquet files that need no shaping beyond SQL are read by the warehouse itself, in its commit.

What is brought is what columns would bring. Where the warehouse cannot read one after all, nothing of it was committed, and the rows come
in columns.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass

import pyarrow as pa

from ...changes.files import Due
from ...errors import FileRefused, SourceError
from ...shaping.columns import ColumnWork
from ...shaping.rules import Change
from ...shaping.shaper import Shaper
from ...sources.files.formats.parquet_whole import ParquetWhole, parquet_whole
from ...sources.files.store import Store
from ...spec.model import FeedTable
from ...warehouses.warehouse import Load
from .passthrough import Passed, structure_of

# Each is held open until it is loaded.
_MOST_FILES = 64
_SHAPING = ("only", "leave_out", "cast", "compute", "hash", "keep", "constants", "copy_")


@dataclass
class WholeFiles:
    """passed: is told how many rows each has, once all are handed to the load. close: of all files."""

    files: list[tuple[Due, ParquetWhole]]
    passed: Callable[[Sequence[int]], None]
    close: Callable[[], None]

    def bring(
        self, shaper: Shaper, columns: ColumnWork, load: Load, told: Callable[[list[Change]], None], went: Callable[[int], None]
    ) -> Passed | None:
        """See pass_through.bring. Raises FileRefused."""
        pairs = structure_of(self.files[0][1].empty, shaper, told) if load.takes_files else None
        if pairs is None:
            return None
        family = columns.lay_out(shaper.family)
        rows = 0
        for due, whole in self.files:
            try:
                load.take_file(family, whole, {target: source for source, target in pairs}, due.line.number)
            except (pa.ArrowException, OSError) as error:  # of its keys
                raise FileRefused("looking into", whole.path, found=str(error), mend="it is read in columns") from error
            rows += whole.rows
            went(rows)
        load.passed_through(rows)
        self.passed([whole.rows for _, whole in self.files])
        return Passed(sum(due.info.size for due, _ in self.files), misfits=False)


def whole_files(
    store: Store, due: Sequence[Due], own: FeedTable, key: Sequence[str], passed: Callable[[Sequence[int]], None]
) -> WholeFiles | None:
    """None where the rows have to come in columns. own: what the feed says of the table."""
    shaped = any(getattr(own, name) for name in _SHAPING) or own.noted.file or own.noted.line
    if shaped or not 0 < len(due) <= _MOST_FILES or not hasattr(store, "local"):
        return None
    found: list[tuple[Due, ParquetWhole]] = []
    with ExitStack() as opened:
        try:
            for one in due:
                file = store.local(one.info)
                if file is None:
                    return None
                opened.callback(file.close)
                whole = parquet_whole(one.info.path, file, key)
                alike = not found or (whole and whole.empty.schema.equals(found[0][1].empty.schema, check_metadata=True))
                if whole is None or not alike:
                    return None
                found.append((one, whole))
        except (pa.ArrowException, OSError, SourceError):
            return None  # in columns it is told what is wrong with it
        return WholeFiles(found, passed, opened.pop_all().close)
