"""Continuing a table where the last run left it, under the present definition."""

from __future__ import annotations

from ...errors import DefinitionError
from ...records.structure import TableShape
from ...shaping.shaper import Shaper
from ...warehouses.loader.write_mode_migration import Transition, transition
from ...warehouses.warehouse import TableState, Warehouse
from ..planning.matched_tables import LoadedTable
from ..planning.order import ResolvedRun, ResolvedTable


def moved(table: ResolvedTable, state: TableState | None) -> Transition:
    """What the present write mode means for the rows that are loaded already."""
    cursor: tuple[str, str] | None = (table.cursor.column, table.cursor.type) if table.cursor else None
    if table.window:
        cursor = ("windows", "window")
    if table.by == "row_version":
        cursor = ("row version", "row_version")
    if table.by == "files":
        cursor = ("files", "files")
    if table.by == "saved":
        cursor = ("saved", "saved")
    if table.by == "cdc":
        cursor = ("cdc", "cdc")
    return transition(state, write=table.write, key=table.key, link=table.link, by=table.by, cursor=cursor)


def require_accepted(table: ResolvedTable, change: Transition, accept: bool) -> None:
    """Check that whatever would be lost was accepted.

    Raises:
        DefinitionError: something loaded cannot be kept, and nobody accepted that.
    """
    if change.losses and not accept:
        raise DefinitionError(
            "continuing the table",
            table.target,
            found=f"the feed's write mode has changed, and this cannot be kept: {'; '.join(change.losses)}",
            fix="run with `--allow-loss` to accept the loss, keep the write mode, or load into new tables with another `table_prefix`",
            code="definition.would_lose_data",
        )


def held_of(table: ResolvedTable, feed: str, warehouse: Warehouse, state: TableState | None) -> LoadedTable | None:
    """What tells new files from those that are loaded."""
    if state is None:
        return None
    return LoadedTable(state.structure, warehouse.files(feed, table.name) if table.by == "files" else ())


def shaper_for(order: ResolvedRun, table: ResolvedTable, state: TableState | None, *, again: bool = False) -> Shaper:
    """The shaper of a table. Types that a database declares are known.

    Args:
        again: replay rejects; a value that was rejected does not change its column's type.
    """
    structure = state.structure.copy() if state else TableShape(table.target)
    drift = order.on_drift
    if again and order.database is not None:
        drift = drift.model_copy(update={"changed_type": "reject"})
    rules = table.rules(drift)
    return Shaper(
        structure, table.key, table.link, rules, newest_by=table.newest_by, expected=state is not None, by_file=table.by_file
    )
