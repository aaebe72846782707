"""What a run reports while it goes on, and how it can end."""

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
    """How a run ended, or that it is going on."""

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
    """The progress of one table of a run.

    Attributes:
        read: this and the other counts are of the source table's records.
        waited_seconds: spent waiting for the rate limit.
        waiting: until when and why, during a wait of more than a second.
        lag: how far the change log is ahead.
        warehouse: which of the further warehouses, for a feed into several; its counts are not part of the run's.
    """

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
        """The counts of records, to return to later."""
        names = ("read", "staged", "repeated", "held_back", "rejected", "unchanged", "filtered")
        return {name: getattr(self, name) for name in names}


# The values of keys, each as text; worked out where somebody asks.
DeletedKeys = Callable[[], set[tuple[str, ...]]]


class Listener(Protocol):
    """Is told about a run. `request` is called from the reader's thread, everything else from the run's own."""

    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        """A line for the run's log.

        Args:
            table: as the source names it; None for the run as a whole.
        """

    def request(self, table: str, seen: RequestSeen) -> None:
        """A request for a table was answered."""

    def progress(self, progress: TableProgress) -> None:
        """The counts of a table so far; always the same object."""

    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        """Records were rejected. Called before the load commits, so that a kill in between repeats a reject and never loses one.

        Args:
            warehouse: if it is not the feed's first.
        """

    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        """A run has seen every record: an earlier reject that was not rejected again no longer exists at the source.

        Args:
            warehouse: if it is not the feed's first.
        """

    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        """The source says that rows were deleted, so their earlier rejects no longer exist either.

        Args:
            key: fields of the source's records.
            keys: their values; None for all rows.
            warehouse: if it is not the feed's first.
        """

    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        """The source's structure differs from the loaded one. Called before the load commits.

        Args:
            warehouse: if it is not the feed's first.
        """

    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        """A load has committed. If the process is killed before this call, the service's copy of the ledger is behind; the warehouse has
        the lines.

        Args:
            warehouse: if it is not the feed's first.
        """
