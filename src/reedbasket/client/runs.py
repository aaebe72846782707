"""Runs, and what is known about each."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from .resource import PAGE, Listed, Resource, pages

if TYPE_CHECKING:
    from .. import wire

# The service answers a waiting call after this at the latest.
_LONGEST_WAIT = 55.0
_ACTIVE = ("queued", "running")


@dataclass(frozen=True)
class Run:
    """One run as it was when it was requested; its methods ask again.

    Attributes:
        facts: everything that the API says about it, by name; `run["totals"]` is `run.facts["totals"]`.
    """

    facts: wire.Run
    _runs: Runs

    def __getitem__(self, name: str) -> Any:
        return self.facts[name]  # type: ignore[literal-required]

    @property
    def id(self) -> int:
        """Its number."""
        return self.facts["id"]

    @property
    def feed(self) -> str:
        """The feed that it ran."""
        return self.facts["feed"]

    @property
    def outcome(self) -> str:
        """queued, running, succeeded, failed, cancelled or interrupted."""
        return self.facts["outcome"]

    @property
    def ended(self) -> bool:
        """Whether it is over."""
        return self.outcome not in _ACTIVE

    @property
    def error(self) -> Any:
        """Its first error: code, doing, on, found, fix; None if there is none."""
        return self.facts["error"]

    def refresh(self) -> Run:
        """The run as it is now."""
        return self._runs.get(self.id)

    def wait(self, seconds: float | None = None) -> Run:
        """Wait for its end.

        Args:
            seconds: how long at most; forever by default.

        Returns:
            The run as it ended, or as it was when the time was over.
        """
        run, until = self, None if seconds is None else time.monotonic() + seconds
        while not run.ended:
            left = _LONGEST_WAIT if until is None else until - time.monotonic()
            if left <= 0:
                break
            run = self._runs.get(self.id, wait_seconds=min(left, _LONGEST_WAIT))
        return run

    def cancel(self) -> Run:
        """Cancel it; what it has committed stays."""
        return self._runs.cancel(self.id)

    @property
    def ledger(self) -> Listed[wire.LedgerLine]:
        """Its loads."""
        return self._runs.ledger(self.id)

    @property
    def log(self) -> Iterator[wire.LogLine]:
        """All lines of its log."""
        return self._runs.all_log(self.id)

    def events(self) -> Iterator[tuple[str, Any]]:
        """Live, until it ends: see `Runs.events`."""
        return self._runs.events(self.id)


class Runs(Resource):
    """Runs of all feeds."""

    def list(self, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> Listed[Run]:
        """The latest first.

        Args:
            before: only those with a smaller number.
        """
        found = self._call("GET", "/api/v1/runs", query={"feed": feed, "before": before, "limit": limit})
        return [Run(one, self) for one in found]

    def all(self, *, feed: str | None = None) -> Iterator[Run]:
        """All of them, the latest first."""
        return pages(lambda at: self.list(feed=feed, before=at, limit=PAGE), lambda run: run.id)

    def get(self, run: int, *, wait_seconds: float = 0) -> Run:
        """One run with its tables.

        Args:
            wait_seconds: wait this long for its end, at most 55.
        """
        return Run(self._call("GET", f"/api/v1/runs/{run}", query={"wait_seconds": wait_seconds or None}), self)

    def cancel(self, run: int) -> Run:
        """Cancel one; what it has committed stays."""
        return Run(self._call("POST", f"/api/v1/runs/{run}/cancel"), self)

    def ledger(self, run: int) -> Listed[wire.LedgerLine]:
        """The loads of one run."""
        return self._call("GET", f"/api/v1/runs/{run}/ledger")

    def log(self, run: int, *, after: int = 0, limit: int = 500) -> Listed[wire.LogLine]:
        """Lines of its log in order.

        Args:
            after: only those with a greater number.
        """
        return self._call("GET", f"/api/v1/runs/{run}/log", query={"after": after, "limit": limit})

    def all_log(self, run: int) -> Iterator[wire.LogLine]:
        """All lines of its log."""
        return pages(lambda at: self.log(run, after=at, limit=PAGE), lambda line: line["number"], 0)

    def requests(self, run: int, *, after: int = 0, limit: int = 500, failed: bool = False) -> Listed[wire.RequestLine]:
        """Requests that it sent, in order, as long as they are kept.

        Args:
            failed: only those that failed.
        """
        query = {"after": after, "limit": limit, "failed": "true" if failed else None}
        return self._call("GET", f"/api/v1/runs/{run}/requests", query=query)

    def all_requests(self, run: int, *, failed: bool = False) -> Iterator[wire.RequestLine]:
        """All requests that it sent."""
        load = partial(self.requests, run, limit=PAGE, failed=failed)
        return pages(lambda at: load(after=at), lambda line: line["number"], 0)

    def exchange(self, run: int, number: int) -> wire.Exchange:
        """What went over the wire of one request, secrets masked.

        Raises:
            ServiceProblem: `request.not_recorded`.
        """
        return self._call("GET", f"/api/v1/runs/{run}/requests/{number}")

    def pace(self, run: int) -> Listed[wire.PaceSample]:
        """How far it was at each moment; empty for a run that ended at once."""
        return self._call("GET", f"/api/v1/runs/{run}/pace")

    def events(self, run: int, *, after: int = 0) -> Iterator[tuple[str, Any]]:
        """Live: ('run', its facts), ('log', lines), and finally ('end', {outcome})."""
        yield from self._caller.events(f"/api/v1/runs/{run}/events", {"after": after})
