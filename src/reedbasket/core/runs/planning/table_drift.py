"""Tables that match a pattern and have appeared or disappeared since the last load. They are drift, handled as `on_drift: {new_table: …,
missing_table: …}` says.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from fnmatch import fnmatchcase

from ...errors import DriftFailed
from ...shaping.rules import Change
from ...spec.database_feed import is_pattern
from ...warehouses.warehouse import Warehouse
from .order import ResolvedRun, ResolvedTable


def new_tables(order: ResolvedRun, warehouse: Warehouse) -> list[ResolvedTable]:
    """Tables that are new since the last run; none at the first run. Only asked for if the feed does not load them anyway."""
    if order.on_drift.new_table == "load" or not any(table.by_pattern for table in order.tables):
        return []
    held = {table.name for table in order.tables if warehouse.state(order.feed, table.name) is not None}
    return [table for table in order.tables if table.by_pattern and table.name not in held] if held else []


def as_drift(order: ResolvedRun, table: ResolvedTable) -> Change:
    """A new table as drift.

    Raises:
        DriftFailed: the feed says to fail.
    """
    change = Change("table", table.target, "", table.name, "", ignored=order.on_drift.new_table == "ignore")
    if not change.ignored:
        raise DriftFailed(
            "taking",
            table.name,
            found="a new table at the source matches a pattern of the feed",
            fix="name it in the feed, set `on_drift: {new_table: load}`, or exclude it with `exclude`",
            details=[vars(change)],
        )
    return change


def missing_tables(order: ResolvedRun, warehouse: Warehouse, told: Collection[str]) -> list[str]:
    """Tables that were loaded through a pattern before, and that the source no longer shows. Their rows stay.

    Args:
        told: tables that have an error of their own.
    """
    wishes = [(own.table if own is not None and own.table else wish, own) for wish, own in order.wishes.items()]
    wishes = [(pattern, own) for pattern, own in wishes if is_pattern(pattern)]
    if not wishes:
        return []
    default_schema = order.database.default_schema if order.database is not None else ""
    there = {table.name for table in order.tables} | set(told) | {wish for wish in order.wishes if not is_pattern(wish)}
    known = [name for name in warehouse.known_tables(order.feed) if name not in there]

    def takes(name: str, pattern: str, exclude: Sequence[str]) -> bool:
        return _fits(name, pattern, default_schema) and not any(_fits(name, other, default_schema) for other in exclude)

    return [
        name for name in known if any(takes(name, pattern, own.exclude if own is not None else ()) for pattern, own in wishes)
    ]


def as_missing(order: ResolvedRun, name: str) -> DriftFailed:
    """The error for a missing table, if the feed says to fail."""
    return DriftFailed(
        "taking",
        name,
        found="this table matched a pattern of the feed before, but the source no longer has "
        "it, or no longer allows reading it; its rows stay",
        fix="grant the right to read it again, leave it out with `exclude`, or set `on_drift: {missing_table: keep}`",
        code="drift.table_missing",
    )


def _fits(name: str, pattern: str, default_schema: str) -> bool:
    """As choosing.matches: tables of the source's own schema are named without it."""
    if "." in pattern and default_schema:
        return fnmatchcase(name if "." in name else f"{default_schema}.{name}", pattern)
    return "." not in name and fnmatchcase(name, pattern) if default_schema else fnmatchcase(name, pattern)
