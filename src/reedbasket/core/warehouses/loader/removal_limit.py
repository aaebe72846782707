"""How many rows one load may remove because it does not hold them: a read that came up short is doubted before anything is committed."""

from __future__ import annotations

from ...errors import TooManyRemoved
from ...spec.limits import exceeds
from ..engine import Engine


def rows_held(engine: Engine, table: str, current: str = "true") -> int:
    """Rows of a table for which a condition over `t` holds."""
    count: int = engine.query(f"select count(*) from {engine.table(table)} as t where {current}")[0][0]
    return count


def require_few_removed(table: str, removed: int, held: int, limit: int | str | None) -> None:
    """Within the load's transaction, which an error rolls back.

    Args:
        removed: rows that go because the load does not hold them.
        held: rows that the table had before.
        limit: a number of rows, or a share of those held (spec.limits); None for any.

    Raises:
        TooManyRemoved: beyond the limit.
    """
    if limit is not None and exceeds(limit, removed, held):
        raise TooManyRemoved(
            "loading",
            table,
            found=f"{removed} of {held} rows would be removed because the source no longer shows them, and the feed says "
            f"`max_removed: {limit}`; nothing was changed",
            fix="check that the source answers in full; to remove them, run with `--allow-loss`, or raise `max_removed` in the feed",
        )
