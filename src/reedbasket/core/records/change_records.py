"""Records from a database's change log: what each row has become, and which rows are deleted."""

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
    """What the change log says about rows besides their values, by position in the batch.

    Attributes:
        gone: the row of this key is deleted.
        kept: {position: columns} whose large value did not change and so is not in the log.
        moved: rows whose key changed; the row with the old key is deleted just before.
    """

    gone: Sequence[bool]
    kept: dict[int, tuple[str, ...]]
    moved: frozenset[int] = frozenset()

    def filter(self, keep: Sequence[bool]) -> Logged:
        """The same for some rows only; keep: whether each row is kept."""
        place_of = {old: new for new, old in enumerate(compress(range(len(keep)), keep))}
        kept = {place_of[place]: columns for place, columns in self.kept.items() if keep[place]}
        moved = frozenset(place_of[place] for place in self.moved if keep[place])
        return Logged(list(compress(self.gone, keep)), kept, moved)


class ChangeRecords(ColumnRecords):
    """Records of a change log.

    Attributes:
        truncated: the table was truncated before the first of these; what came earlier no longer matters.
    """

    joinable = False

    def __init__(self, columns: pa.Table, logged: Logged, *, truncated: bool = False) -> None:
        super().__init__(columns, lambda: as_records(columns), columns.nbytes)
        self.logged = logged
        self.truncated = truncated

    @override
    def filter(self, keep: Sequence[bool]) -> ChangeRecords:
        return ChangeRecords(
            self.columns.filter(pa.array(keep, pa.bool_())), self.logged.filter(keep), truncated=self.truncated
        )
