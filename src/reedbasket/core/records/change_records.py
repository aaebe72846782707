"""Records out of a database's log of changes: what each row has become, and which rows are gone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import compress

import pyarrow as pa
from typing_extensions import override

from .column_records import ColumnRecords
from .plain_values import as_records


@dataclass(frozen=True)
class Logged:
    """What the log says of rows beside their values, by place in the batch.

    gone: the row's key is no more. kept: columns whose large value did not change and so is not in the log, {place: columns}. moved:
    rows whose key changed; the old key is gone with the row before.
    """

    gone: Sequence[bool]
    kept: dict[int, tuple[str, ...]]
    moved: frozenset[int] = frozenset()

    def filter(self, keep: Sequence[bool]) -> Logged:
        """Of the rows that are kept; keep: of each row whether it is."""
        place_of = {old: new for new, old in enumerate(compress(range(len(keep)), keep))}
        kept = {place_of[place]: columns for place, columns in self.kept.items() if keep[place]}
        moved = frozenset(place_of[place] for place in self.moved if keep[place])
        return Logged(list(compress(self.gone, keep)), kept, moved)


class LoggedRecords(ColumnRecords):
    """emptied: the table was emptied before the first of these; what came earlier counts no more."""

    joinable = False

    def __init__(self, columns: pa.Table, logged: Logged, *, emptied: bool = False) -> None:
        super().__init__(columns, lambda: as_records(columns), columns.nbytes)
        self.logged = logged
        self.emptied = emptied

    @override
    def filter(self, keep: Sequence[bool]) -> LoggedRecords:
        return LoggedRecords(self.columns.filter(pa.array(keep, pa.bool_())), self.logged.filter(keep), emptied=self.emptied)
