"""The columns of a database table that a feed selects, and their types."""

from __future__ import annotations

from ...records.names import fold
from ...sources.sql import Column
from .table_selection import ChosenTable


def select_columns(chosen: ChosenTable, as_text: str) -> tuple[list[Column], frozenset[str]]:
    """(columns to read, columns that the feed leaves out); what is left out is not queried.

    Args:
        as_text: see Database.
    """
    columns, left_out = [], set()
    for column in chosen.table.columns:
        wanted = select_column(chosen, column, as_text)
        if wanted is None:
            left_out.add(column.name)
        else:
            columns.append(wanted)
    return columns, frozenset(left_out)


def select_column(chosen: ChosenTable, column: Column, as_text: str) -> Column | None:
    """A column as the feed wants it read; None if it leaves it out.

    Args:
        as_text: see Database.
    """
    own, plain = chosen.own, fold(column.name)
    if chosen.by == "cdc" and (said := chosen.table.column(column.name)) is not None and said.generated:
        return None  # the log does not have it: taken with the snapshot, it would be null with the next change
    wanted = plain not in own.exclude_columns and (own.include_columns is None or plain in own.include_columns)
    if not wanted and column.name not in {*chosen.key, *chosen.cursor_columns}:
        return None
    if own.cast.get(plain) == "text" and column.kind not in (None, "text"):
        return Column(column.name, column.declared, "text", as_text, column.nullable)
    return column
