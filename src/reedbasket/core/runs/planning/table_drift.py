"""Tables that a pattern matches and that were not there when the feed was loaded before, or are there no more: drift, as
`on_drift: {new_table: …, missing_table: …}` says."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from fnmatch import fnmatchcase

from ...errors import DriftStopped
from ...shaping.rules import Change
from ...spec.database_feed import is_pattern
from ...warehouses.warehouse import Warehouse
from .order import ResolvedRun, ResolvedTable


def new_tables(order: ResolvedRun, warehouse: Warehouse) -> list[ResolvedTable]:
    """None at the first run, when all are. Asked for only where the feed does not take them anyway."""
    if order.on_drift.new_table == "load" or not any(table.by_pattern for table in order.tables):
        return []
    held = {table.name for table in order.tables if warehouse.state(order.feed, table.name) is not None}
    return [table for table in order.tables if table.by_pattern and table.name not in held] if held else []


def as_drift(order: ResolvedRun, table: ResolvedTable) -> Change:
    """Raises DriftStopped where the feed says so."""
    change = Change("table", table.target, "", table.name, "", ignored=order.on_drift.new_table == "ignore")
    if not change.ignored:
        raise DriftStopped(
            "taking",
            table.name,
            found="a pattern of the feed matches a table that is new at the source",
            fix="name it in the feed, set `on_drift: {new_table: load}`, or leave it out with `exclude`",
            details=[vars(change)],
        )
    return change


def missing_tables(order: ResolvedRun, warehouse: Warehouse, told: Collection[str]) -> list[str]:
    """Tables that a pattern of the feed took before, and that the source does not show now; their rows stay. told: of which something
    else is said."""
    wishes = [(own.table if own is not None and own.table else wish, own) for wish, own in order.wishes.items()]
    wishes = [(pattern, own) for pattern, own in wishes if is_pattern(pattern)]
    if not wishes:
        return []
    home = order.database.home if order.database is not None else ""
    there = {table.name for table in order.tables} | set(told) | {wish for wish in order.wishes if not is_pattern(wish)}
    known = [name for name in warehouse.known_tables(order.feed) if name not in there]

    def takes(name: str, pattern: str, exclude: Sequence[str]) -> bool:
        return _fits(name, pattern, home) and not any(_fits(name, other, home) for other in exclude)

    return [
        name for name in known if any(takes(name, pattern, own.exclude if own is not None else ()) for pattern, own in wishes)
    ]


def as_missing(order: ResolvedRun, name: str) -> DriftStopped:
    """What to fail with where a table that was taken is there no more, and the feed says so."""
    return DriftStopped(
        "taking",
        name,
        found="a pattern of the feed matched this table before; the source no longer has it, or no longer lets it be read; its rows stay",
        fix="grant the right to read it again, leave it out with `exclude`, or set `on_drift: {missing_table: keep}`",
        code="drift.table_missing",
    )


def _fits(name: str, pattern: str, home: str) -> bool:
    """As choosing.matches: tables of the source's own schema are named without it."""
    if "." in pattern and home:
        return fnmatchcase(name if "." in name else f"{home}.{name}", pattern)
    return "." not in name and fnmatchcase(name, pattern) if home else fnmatchcase(name, pattern)
