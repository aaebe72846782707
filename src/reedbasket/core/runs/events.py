"""What a run tells while it goes, and how it can end."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any, Literal, Protocol

from ..records.ledger import LedgerLine
from ..shaping.batch import Reject
from ..shaping.rules import Change
from ..sources.requests_seen import RequestSeen
from ..sources.sql.changelog import Lag


class RunOutcome(StrEnum):
    """How a run ended, or that it goes on."""

    QUEUED = "queued"
    RUNNING = "running"
    SUCCEEDED = "succeeded"
    FAILED = "failed"
    CANCELLED = "cancelled"
    INTERRUPTED = "interrupted"


Level = Literal["info", "warning", "error"]
Phase = Literal["waiting", "reading", "committing", "done", "failed", "skipped"]


@dataclass
class TableProgress:
    """Where one table of a run stands. Counts are records of the source's table; seconds waited are for its pace;
    waiting: until when, and why, while it waits for more than a second; lag: of the log that it follows.
    warehouse: of a feed into several, which of the others behind the first; its counts are not the run's."""

    table: str
    target: str
    warehouse: str = ""
    phase: Phase = "waiting"
    read: int = 0
    staged: int = 0
    inserted: int = 0
    updated: int = 0
    deleted: int = 0
    repeated: int = 0
    held_back: int = 0
    rejected: int = 0
    unchanged: int = 0
    filtered: int = 0
    requests: int = 0
    source_bytes: int = 0
    waited_seconds: float = 0.0
    waiting: str = ""
    expected: int | None = None
    cursor_from: str | None = None
    cursor_to: str | None = None
    seconds: float = 0.0
    lag: Lag | None = None
    error: dict[str, Any] | None = field(default=None)

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, as a run keeps it."""
        return asdict(self)

    def counts(self) -> dict[str, int]:
        """What has been counted of records, to go back to."""
        names = ("read", "staged", "repeated", "held_back", "rejected", "unchanged", "filtered")
        return {name: getattr(self, name) for name in names}


# The values of keys, each as text; worked out where somebody asks.
Gone = Callable[[], set[tuple[str, ...]]]


class Listener(Protocol):
    """Hears of a run. `request` is called from the reader's thread, everything else from the run's own."""

    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        """A line of the run's log; table: as the source names it; None for the run as a whole."""

    def request(self, table: str, seen: RequestSeen) -> None:
        """A request that was sent for a table, once it is answered."""

    def progress(self, progress: TableProgress) -> None:
        """What was counted so far of a table; the same object throughout."""

    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        """Called before the load commits, so that a kill in between repeats a reject and never loses one. warehouse: another than the
        feed's first."""

    def all_met(self, table: str, warehouse: str = "") -> None:
        """Called after a run that removes what it did not meet: what was rejected before, and not now, is no longer at the source.
        warehouse: as above."""

    def gone(self, table: str, key: Sequence[str], keys: Gone | None, warehouse: str = "") -> None:
        """The source says that rows have gone: what was rejected of them until now has too. key: fields of its records. keys: their
        values; None for all there were. warehouse: as above."""

    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        """The source's structure differs from the one loaded before; called before the load commits. warehouse: as above."""

    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        """Called after the load committed. A kill in between leaves the copy behind; the warehouse has the lines. warehouse: another
        than the feed's first."""
