"""How wide a table of a warehouse may be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..errors import WarehouseError
from ..records.layout import Family
from ..records.structure import ColumnShape

# How many columns the loader adds to a stage or a table, at most.
_OWN_COLUMNS = 8


@dataclass(frozen=True)
class Limits:
    """What an engine can hold.

    Attributes:
        columns: the largest number of columns of a table, the loader's own included.
    """

    columns: int

    def too_wide(self, columns: Sequence[ColumnShape]) -> str:
        """What keeps the engine from making a table of these columns, besides the loader's own; '' if nothing does."""
        most = self.columns - _OWN_COLUMNS
        return (
            f"{len(columns)} columns, and the warehouse allows {most} besides Reed Basket's own" if len(columns) > most else ""
        )


def require_column_limit(limits: Limits, family: Family) -> None:
    """Check that no table has more, or wider, columns than the engine allows.

    Raises:
        WarehouseError: one has.
    """
    for layout in family.tables:
        if found := limits.too_wide(layout.columns):
            raise WarehouseError(
                "creating the columns of",
                layout.name,
                found=found,
                fix="leave columns out (`include_columns`, `exclude_columns`), or keep objects as JSON (`nesting: {objects: json}`)",
                code="warehouse.too_many_columns",
            )
