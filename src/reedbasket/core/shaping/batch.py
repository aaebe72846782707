"""The result of shaping: rows in columns, and the records that could not be shaped."""

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

    Attributes:
        columns: {name: (kind, data)}, each of `rows` values.
        owners: for each row, the number of its record, counted through the whole load.
        references: for the first table, what its children refer to if that is not a key column (see layout.Reference).
        files: for the first table, the number of the file of each row, if that is kept.
        parents: for child tables, what each row refers to; without a key, the path below the row: '' for a child, '/2' for the children of
            child 2.
        positions: for child tables, the place of each row in its list.
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
        """The loader's own columns by name; None for those that the batch does not have."""
        return {
            "_rb_owner": self.owners,
            "_rb_parent": self.parents,
            "_rb_ordinal": self.positions,
            "_rb_row_key": self.references,
            "_rb_file": self.files,
        }


@dataclass(frozen=True)
class Reject:
    """A record that cannot be shaped.

    Attributes:
        record: as it was received.
        file: the number of its file.
    """

    index: int
    code: str
    message: str
    field: str
    record: Any
    file: int | None = None


@dataclass(frozen=True)
class ShapedBatch:
    """One batch of records as columns.

    Attributes:
        batches: parents before children.
        changes: what is new in the structure.
        kept: the records that were shaped, without the rejects.
    """

    family: Family
    batches: list[TableBatch]
    rejects: list[Reject]
    records: int
    changes: list[Change]
    kept: Sequence[dict[str, Any]]
