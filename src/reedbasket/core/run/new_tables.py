"""Tables that a pattern matches and that were not there when the feed was loaded before: drift, as `drift: {tables: …}` says."""

from __future__ import annotations

from ..errors import DriftStopped
from ..load.warehouse import Warehouse
from ..shape.rules import Change
from .order import RunOrder, TableOrder


def new_tables(order: RunOrder, warehouse: Warehouse) -> list[TableOrder]:
    """None at the first run, when all are. Asked for only where the feed does not take them anyway."""
    if order.drift.tables == "accept" or not any(table.by_pattern for table in order.tables):
        return []
    held = {table.name for table in order.tables if warehouse.state(order.feed, table.name) is not None}
    return [table for table in order.tables if table.by_pattern and table.name not in held] if held else []


def as_drift(order: RunOrder, table: TableOrder) -> Change:
    """Raises DriftStopped where the feed says so."""
    change = Change("table", table.target, "", table.name, "", ignored=order.drift.tables == "ignore")
    if not change.ignored:
        raise DriftStopped(
            "taking",
            table.name,
            found="the source has a table that a pattern of the feed matches, and did not have it before",
            mend="name it in the feed, say `drift: {tables: accept}`, or take it out with `besides`",
            details=[vars(change)],
        )
    return change
