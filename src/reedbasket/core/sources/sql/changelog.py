"""What a run needs of a database's log of changes, whatever the database."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from ...errors import SourceError
from ...records.change_records import LoggedRecords
from .tables import Column, Table


class LogLost(SourceError):
    """The log no longer has what comes after a position: only a new snapshot helps."""

    code = "source.log_lost"


@dataclass(frozen=True)
class LogPart:
    """Changes of one table, in order. records: in typed columns. position: up to here whole transactions have been told; None in the
    middle of one. messages_bytes: as they came."""

    records: LoggedRecords
    position: str | None
    messages_bytes: int


@dataclass(frozen=True)
class Lag:
    """How far behind the log's end the last confirmed position is. seconds: since the oldest change that waits was committed; None
    where nothing waits. transactions: that wait."""

    size: int
    seconds: float | None
    transactions: int


class ChangeLog(Protocol):
    """One log, read once for all tables of a run that follow it; what they do not yet have is passed on to each by itself."""

    def prepare(self, tables: Sequence[Table]) -> str | None:
        """Before anything is read: what keeps the log for us is there, or made. What was done, in words. Raises SourceError."""

    def look(self, tables: Sequence[Table], saved: str | None) -> None:
        """For a plan, which makes nothing: raises what a run would that goes on from a position, or begins."""

    def here(self) -> str:
        """The position from which a table goes on that is read whole in the database's snapshot."""

    def require(self, saved: str) -> None:
        """Raises LogLost where the log has no longer all that comes after a position."""

    def parts(
        self, table: Table, key: Sequence[str], saved: str, as_column: Callable[[Column], Column | None]
    ) -> Iterator[LogPart]:
        """What happened to a table after a position. as_column: how the feed wants a column, None for one that it leaves out."""

    def after(self, saved: str) -> str:
        """The position once all parts have been taken."""

    def brings(self) -> bool:
        """Whether the log has moved since it was last confirmed: some table's changes, or much of others'."""

    def lag(self) -> Lag | None:
        """As of the time of reading; None where nothing was read."""

    def confirm(self, positions: Sequence[str]) -> None:
        """Nothing before the lowest of these is needed any more."""

    def close(self) -> None:
        """Let go of what was put aside."""


@dataclass(frozen=True)
class LogName:
    """What keeps a feed's place in a log, and what says whose changes it tells, where a database has the two.

    Attributes:
        slot: of lower case letters, digits and `_`, up to 63, which every database takes.
        publication: its name.
    """

    slot: str
    publication: str


def log_name(feed: str, slot: str | None, publication: str | None) -> LogName:
    """By what a feed says of it, else by the feed's own name."""
    own = ("reed_" + "".join(c if c.isascii() and c.isalnum() else "_" for c in feed.lower()))[:63]
    return LogName(slot or own, publication or slot or own)
