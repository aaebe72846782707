"""A window given to a run: which tables go by it, and what came in of it before."""

from __future__ import annotations

from ...spec.times import format_time
from ...warehouses.loading import TakenWindow
from ...warehouses.warehouse import Warehouse
from .order import ResolvedRun, ResolvedTable


def requested_window(order: ResolvedRun, table: ResolvedTable) -> TakenWindow | None:
    """What this run takes of a table; None where it goes on from the table's own cursor."""
    window = order.window_of(table)
    return TakenWindow(order.backfill, format_time(window[0]), format_time(window[1])) if window is not None else None


def passed_over(order: ResolvedRun, table: ResolvedTable, warehouse: Warehouse) -> tuple[str, str] | None:
    """(code, words) where there is nothing to do: an earlier run committed the window, or it is none of this table's."""
    if order.leaves_out(table):
        return "window.not_of_this_table", f"left out: changes are found by {table.by}, which knows no windows of time"
    window = requested_window(order, table)
    load = warehouse.window_taken(order.feed, table.name, window) if window is not None else None
    if window is None or load is None:
        return None
    return "window.already_loaded", f"the window from {window.begins} to {window.ends} came in with load {load}"
