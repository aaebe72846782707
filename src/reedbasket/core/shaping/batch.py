"""What shaping hands on: rows in columns, and the records that could not be made into such."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ..records.column_types import ColumnData, Kind
from ..records.layout import Family
from .rules import Change


@dataclass
class TableBatch:
    """Rows for one warehouse table.

    columns: {name: (kind, data)}, each of `rows` values. owners: for each row the number of the record it came from, counted
    through the whole load. references: of the first table, what its children point at where that is no key column (see
    layout.Reference).
    files: of the first table, the number of the file that each row came from, where that is kept.
    parents, positions: child tables only; without a key, parents holds the path below the
    row: '' for a child, '/2' for the children of child 2.
    """

    table: str
    rows: int
    owners: Sequence[int]
    parents: list[Any] | None = None
    positions: list[int] | None = None
    references: list[Any] | None = None
    files: Sequence[int] | None = None
    columns: dict[str, tuple[Kind, ColumnData]] = field(default_factory=dict)

    @property
    def own(self) -> dict[str, Any]:
        """The loader's own columns, by their names; None for those that it does not have."""
        return {
            "_rb_owner": self.owners,
            "_rb_parent": self.parents,
            "_rb_ordinal": self.positions,
            "_rb_row_key": self.references,
            "_rb_file": self.files,
        }


@dataclass(frozen=True)
class Reject:
    """A record that cannot be shaped: its place in the batch, why, which field, itself as received, and the number of its file."""

    index: int
    code: str
    message: str
    field: str
    record: Any
    file: int | None = None


@dataclass(frozen=True)
class Shaped:
    """One batch of records as columns. batches: parents before children. changes: what is new in the structure. kept: the
    records shaped, without the rejects."""

    family: Family
    batches: list[TableBatch]
    rejects: list[Reject]
    records: int
    changes: list[Change]
    kept: Sequence[dict[str, Any]]
