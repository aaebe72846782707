"""How many rows one load may remove because it does not hold them: an incomplete read is noticed before anything is committed."""

from __future__ import annotations

from ...errors import TooManyRemoved
from ...spec.limits import exceeds
from ..engine import Engine


def rows_held(engine: Engine, table: str, current: str = "true") -> int:
    """The number of rows of a table that satisfy a condition on `t`."""
    count: int = engine.query(f"select count(*) from {engine.table(table)} as t where {current}")[0][0]
    return count


def require_few_removed(table: str, removed: int, held: int, limit: int | str | None) -> None:
    """Check the limit within the load's transaction, which an error rolls back.

    Args:
        removed: rows that go because the load does not hold them.
        held: rows that the table had before.
        limit: a number of rows, or a share of those held (spec.limits); None for any.

    Raises:
        TooManyRemoved: the limit is passed.
    """
    if limit is not None and exceeds(limit, removed, held):
        raise TooManyRemoved(
            "loading",
            table,
            found=f"{removed} of {held} rows would be removed because the source no longer shows them, and the feed says "
            f"`max_removed: {limit}`; nothing was changed",
            fix="check that the source answers in full; to remove them, run with `--allow-loss`, or raise `max_removed` in the feed",
        )
