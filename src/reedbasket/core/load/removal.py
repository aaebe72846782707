"""How many rows one load may remove because it does not hold them: a read that came up short is doubted before anything goes."""

from __future__ import annotations

from ..errors import TooManyRemoved
from ..spec.limits import ALWAYS_WITHIN, exceeds
from .engine import Engine


def rows_held(engine: Engine, table: str, current: str) -> int:
    """Rows of a table for which a condition over `t` holds."""
    count: int = engine.ask(f"select count(*) from {engine.table(table)} as t where {current}")[0][0]
    return count


def require_few_removed(engine: Engine, table: str, gone: int, limit: int | str | None, current: str) -> None:
    """Within the load's transaction, before anything is removed.

    Args:
        gone: rows that would go.
        limit: a number of rows, or a share of those held (spec.limits); None for any.
        current: the condition over `t` by which a row counts as held.

    Raises:
        TooManyRemoved: beyond the limit.
    """
    if limit is None or (gone <= ALWAYS_WITHIN and isinstance(limit, str)):
        return
    held = rows_held(engine, table, current)
    if exceeds(limit, gone, held):
        raise TooManyRemoved(
            "loading",
            table,
            found=f"{gone} of {held} rows would be removed because the source no longer shows them, and the feed says "
            f"`max_removed: {limit}`; nothing was changed",
            mend="check that the source answers in full; to remove them, run with `--accept`, or raise `max_removed` in the feed",
        )
