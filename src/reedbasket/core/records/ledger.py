"""A line for each load, whose counts must add up."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from ..errors import NotReconciled


@dataclass(frozen=True)
class LedgerLine:
    """What one load did to one warehouse table. Counts are rows; times are RFC 3339 text in UTC.

    Attributes:
        load: unique in the warehouse; `_rb_ledger_line` of each row refers to it.
        read: records from the source (for a child table: rows found in them).
        staged: how many of them could be shaped.
        repeated: records that the source sent again because the lower bound is inclusive or overlaps; recognised by content, and not part
            of `read`.
        filtered: rows that the feed's own `filter` left out; not part of `read`.
        removed: rows that went without being read, because a table was replaced, a parent changed, or a mirror's source no longer has them.
        reading_seconds: this and the other seconds are of the whole load, and stand in the first of its lines.
    """

    load: int
    run: int
    feed: str
    source: str
    source_table: str
    table: str
    write: str
    read: int
    staged: int
    inserted: int
    updated: int
    deleted: int
    unchanged: int
    superseded: int
    rejected: int
    removed: int
    repeated: int
    cursor_from: str | None
    cursor_to: str | None
    source_bytes: int
    started: str
    ended: str
    filtered: int = 0
    reading_seconds: float = 0.0
    shaping_seconds: float = 0.0
    staging_seconds: float = 0.0
    committing_seconds: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        """{column: value}, as the ledger keeps it."""
        return asdict(self)

    @property
    def reconciles(self) -> bool:
        """Whether every record that was read is accounted for."""
        return (
            self.read == (self.inserted + self.updated + self.deleted + self.unchanged + self.superseded + self.rejected)
            and self.staged <= self.read - self.rejected
        )

    def require_reconciled(self) -> None:
        """Check that the counts add up; if not, the transaction of the load fails.

        Raises:
            NotReconciled: they do not.
        """
        if not self.reconciles:
            raise NotReconciled(
                "loading",
                self.table,
                found=f"read {self.read}, but inserted {self.inserted} + updated {self.updated} + deleted {self.deleted}"
                f" + unchanged {self.unchanged} + superseded {self.superseded} + rejected {self.rejected}",
                fix="nothing of this load was committed; report it with the run's log",
            )
