"""Feeds: their state, their results and plans, and their schedules."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from .caller import Caller
from .resource import PAGE, Listed, Resource, pages, part
from .runs import Run, Runs

if TYPE_CHECKING:
    from .. import wire


class Feeds(Resource):
    """All feeds, by their names."""

    def __init__(self, caller: Caller, runs: Runs) -> None:
        super().__init__(caller)
        self._runs = runs

    def list(self) -> Listed[wire.Feed]:
        """Every feed, with its last run."""
        return self._call("GET", "/api/v1/feeds")

    def get(self, feed: str) -> wire.Feed:
        """One feed, with its last run."""
        return self._call("GET", f"/api/v1/feeds/{part(feed)}")

    def run(
        self,
        feed: str,
        *,
        wait_seconds: float = 0,
        allow_loss: bool = False,
        replay: bool = False,
        sets: Mapping[str, Any] | None = None,
        bodies: bool = False,
        extract: bool = False,
    ) -> Run:
        """Start a run of a feed.

        Args:
            wait_seconds: wait this long for its end, at most 55.
            allow_loss: drop what a changed definition cannot keep; `plan` names it.
            replay: load the feed's rejects again instead of reading the source.
            sets: overrides values of the variant and settings, for this run only.
            bodies: record what requests send and receive.
            extract: write all its records to files instead of the warehouse; see `extracts`.

        Returns:
            The run; `run.wait()` waits for its end.

        Raises:
            ServiceProblem: `run.already_active`, `feed.not_found`.
        """
        body = {
            "feed": feed, "wait_seconds": wait_seconds, "allow_loss": allow_loss, "replay": replay, "sets": dict(sets or {}),
            "bodies": bodies, "extract": extract,
        }  # fmt: skip
        return Run(self._call("POST", "/api/v1/runs", body=body), self._runs)

    def plan(self, feed: str) -> wire.Plan:
        """What the next run would do; nothing is written."""
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/plan")

    def verify(self, feed: str, *, table: str | None = None, deep: bool = False) -> Listed[wire.VerifiedTable]:
        """Compare the warehouse with the source, which is read from the beginning.

        Args:
            deep: compare values, not only keys.
        """
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/verify", body={"table": table, "deep": deep}, patient=True)

    def ledger(self, feed: str, *, limit: int = 200) -> Listed[wire.LedgerLine]:
        """Its loads, the latest first."""
        return self._call("GET", f"/api/v1/feeds/{part(feed)}/ledger", query={"limit": limit})

    def rejects(self, feed: str, *, before: int | None = None, limit: int = 200) -> Listed[wire.Reject]:
        """Records that could not be loaded, the latest first.

        Args:
            before: only those with a smaller number.
        """
        return self._call("GET", f"/api/v1/feeds/{part(feed)}/rejects", query={"before": before, "limit": limit})

    def all_rejects(self, feed: str) -> Iterator[wire.Reject]:
        """All records that could not be loaded, the latest first."""
        return pages(lambda at: self.rejects(feed, before=at, limit=PAGE), lambda reject: reject["id"])

    def drift(self, feed: str, *, limit: int = 200) -> Listed[wire.Drift]:
        """Changes of its source's structure, the latest first."""
        return self._call("GET", f"/api/v1/feeds/{part(feed)}/drift", query={"limit": limit})

    def files(
        self, feed: str, *, table: str | None = None, state: str | None = None, match: str | None = None, limit: int = 100
    ) -> Listed[wire.FileLine]:
        """Files of its tables, the latest first.

        Args:
            match: a pattern of paths.
        """
        path = f"/api/v1/feeds/{part(feed)}/files"
        return self._call("GET", path, query={"table": table, "state": state, "match": match, "limit": limit})

    def rewind(self, feed: str, table: str, *, to: str | None = None, dry_run: bool = False) -> wire.RewoundCursor:
        """Have the next run read a table again.

        Args:
            to: an earlier value of its cursor; the beginning by default.
            dry_run: only say what that would mean.
        """
        path = f"/api/v1/feeds/{part(feed)}/rewind-cursor"
        return self._call("POST", path, body={"table": table, "to": to, "dry_run": dry_run})

    def rewind_files(self, feed: str, table: str, files: Sequence[str]) -> wire.RequeuedFiles:
        """Have the next run load files again.

        Args:
            files: paths, or patterns of paths.
        """
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/rewind", body={"table": table, "files": list(files)})

    def pause(self, feed: str) -> wire.Feed:
        """Start no runs by its schedule until it is resumed."""
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/pause")

    def resume(self, feed: str) -> wire.Feed:
        """Start runs by its schedule again."""
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/resume")

    def schedules(self, *, each: int = 40) -> Listed[wire.ScheduledFeed]:
        """Feeds with a schedule.

        Args:
            each: how many of their latest windows.
        """
        return self._call("GET", "/api/v1/schedules", query={"each": each})

    def windows(
        self, feed: str, *, state: str | None = None, backfill: int | None = None, limit: int = 200
    ) -> Listed[wire.DueWindow]:
        """Its windows, the latest first.

        Args:
            backfill: those of that one; 0 for those of its schedule.
        """
        return self._call(
            "GET", f"/api/v1/feeds/{part(feed)}/windows", query={"state": state, "backfill": backfill, "limit": limit}
        )

    def retry_windows(self, feed: str, start: str, until: str) -> wire.Counted:
        """Run the windows of a range again that failed or were skipped."""
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/windows/retry", body={"from": start, "until": until})

    def backfill(self, feed: str, start: str, until: str, length: str) -> wire.Backfill:
        """Load a range of the past again, without moving the feed's own cursor.

        Args:
            start: RFC 3339.
            until: RFC 3339, not included.
            length: the window of each run: `6h`, `1d`, `month`.
        """
        body = {"from": start, "until": until, "length": length}
        return self._call("POST", f"/api/v1/feeds/{part(feed)}/backfills", body=body)


class Backfills(Resource):
    """Ranges of the past that are loaded again."""

    def list(self, feed: str | None = None) -> Listed[wire.Backfill]:
        """All of them, or a feed's, the latest first."""
        return self._call("GET", "/api/v1/backfills", query={"feed": feed})

    def pause(self, backfill: int) -> wire.Backfill:
        """Start no more of its runs until it is resumed."""
        return self._call("POST", f"/api/v1/backfills/{backfill}/pause")

    def resume(self, backfill: int) -> wire.Backfill:
        """Go on with it."""
        return self._call("POST", f"/api/v1/backfills/{backfill}/resume")

    def cancel(self, backfill: int) -> wire.Backfill:
        """End it; what it has loaded stays."""
        return self._call("POST", f"/api/v1/backfills/{backfill}/cancel")


class Notifications(Resource):
    """What was sent to whom."""

    def list(self, *, state: str | None = None, limit: int = 100) -> Listed[wire.Notification]:
        """The latest first.

        Args:
            state: waiting, sent or undeliverable.
        """
        return self._call("GET", "/api/v1/notifications", query={"state": state, "limit": limit})

    def retry(self) -> wire.Counted:
        """Try to deliver again what was undeliverable."""
        return self._call("POST", "/api/v1/notifications/retry")
