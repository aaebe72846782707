"""What a run needs of a database's change log, whatever the database."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from ...errors import SourceError
from ...records.change_records import ChangeRecords
from .tables import Column, Table


class CdcPositionLost(SourceError):
    """The log no longer has what follows a position: only a new snapshot helps."""

    code = "source.cdc_position_lost"


@dataclass(frozen=True)
class LogPart:
    """Changes of one table, in order.

    Attributes:
        records: in typed columns.
        position: whole transactions were sent up to here; None in the middle of one.
        messages_bytes: as they arrived.
    """

    records: ChangeRecords
    position: str | None
    messages_bytes: int


@dataclass(frozen=True)
class Lag:
    """How far the last confirmed position is behind the end of the log.

    Attributes:
        seconds: since the oldest waiting change was committed; None if nothing is waiting.
        transactions: how many are waiting.
    """

    size: int
    seconds: float | None
    transactions: int


class ChangeLog(Protocol):
    """One log, read once for all tables of a run that follow it. Each table gets the changes that it does not have yet."""

    def prepare(self, tables: Sequence[Table]) -> str | None:
        """Make sure that the database keeps its log for us, before anything is read.

        Returns:
            What was done, in words; None for nothing.

        Raises:
            SourceError: it cannot be arranged.
        """

    def look(self, tables: Sequence[Table], saved: str | None) -> None:
        """For a plan, which creates nothing. Raises what a run would raise that continues from a position, or begins."""

    def here(self) -> str:
        """The position from which a table continues that is read in the database's snapshot."""

    def require(self, saved: str) -> None:
        """Check that the log has everything after a position.

        Raises:
            CdcPositionLost: it does not.
        """

    def parts(
        self, table: Table, key: Sequence[str], saved: str, as_column: Callable[[Column], Column | None]
    ) -> Iterator[LogPart]:
        """The changes of a table after a position.

        Args:
            as_column: how the feed wants a column; None for one that it leaves out.
        """

    def after(self, saved: str) -> str:
        """The position once all parts have been read."""

    def has_changes(self) -> bool:
        """Whether the log has moved since it was last confirmed, by changes to some table or by many changes to others."""

    def lag(self) -> Lag | None:
        """At the time of reading; None if nothing was read."""

    def confirm(self, positions: Sequence[str]) -> None:
        """Tell the database that nothing before the lowest of these positions is needed any more."""

    def close(self) -> None:
        """Remove what was kept."""


@dataclass(frozen=True)
class LogName:
    """What holds a feed's place in a log, and what selects its changes, for databases that have the two.

    Attributes:
        slot: lower case letters, digits and `_`, at most 63, which every database accepts.
        publication: its name.
    """

    slot: str
    publication: str


def log_name(feed: str, slot: str | None, publication: str | None) -> LogName:
    """As the feed says, otherwise from the feed's own name."""
    own = ("reed_" + "".join(c if c.isascii() and c.isalnum() else "_" for c in feed.lower()))[:63]
    return LogName(slot or own, publication or slot or own)
