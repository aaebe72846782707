"""A run of one window: which tables it applies to, and whether it was loaded before."""

from __future__ import annotations

from ...spec.times import format_time
from ...warehouses.loading import LoadedWindow
from ...warehouses.warehouse import Warehouse
from .order import ResolvedRun, ResolvedTable


def requested_window(order: ResolvedRun, table: ResolvedTable) -> LoadedWindow | None:
    """The window that this run reads of a table; None if it continues from the table's own cursor."""
    window = order.window_of(table)
    return LoadedWindow(order.backfill, format_time(window[0]), format_time(window[1])) if window is not None else None


def passed_over(order: ResolvedRun, table: ResolvedTable, warehouse: Warehouse) -> tuple[str, str] | None:
    """(code, text) if there is nothing to do: an earlier run loaded the window, or the table has no windows."""
    if order.excluded_from_backfill(table):
        return "window.not_of_this_table", f"left out: `changes: {table.by}` does not use time windows"
    window = requested_window(order, table)
    load = warehouse.load_of_window(order.feed, table.name, window) if window is not None else None
    if window is None or load is None:
        return None
    return "window.already_loaded", f"the window from {window.begins} to {window.ends} was loaded with load {load}"
