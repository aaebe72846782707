"""Whether a column can be widened without losing a value."""

from __future__ import annotations

from collections.abc import Sequence

from ..errors import WarehouseError
from ..records.column_types import EXACT_IN_DOUBLE, Kind
from ..records.structure import ColumnShape
from .engine import Engine


def require_exact(
    engine: Engine, sql_name: str, table: str, columns: Sequence[tuple[Kind, ColumnShape]], where: str = ""
) -> None:
    """Check that integers which become fractions are small enough for a double.

    Args:
        sql_name: the table, as SQL.
        table: its name, for the error.
        columns: [(type before, the column as it will be)].
        where: SQL for the rows that count, with `{}` for the column.

    Raises:
        WarehouseError: one is not.
    """
    for before, column in columns:
        if before != "int64" or column.kind != "double":
            continue
        name = engine.quote(column.name)
        limit = engine.query(f"select max(abs({name})) from {sql_name} {where.format(name)}")[0][0]
        if limit is not None and limit > EXACT_IN_DOUBLE:
            raise WarehouseError(
                "widening the column",
                f"{table}.{column.name}",
                found=f"fractions arrived in a column with integers up to {limit}, and no double can hold both exactly",
                fix="set `cast: {" + column.name + ": decimal}` for this table in the feed",
                code="warehouse.cannot_widen",
            )
