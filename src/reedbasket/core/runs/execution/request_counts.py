"""Requests and waits, counted for the table that is being run."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime, timedelta

from ...sources.pace import Wait
from ...sources.requests_seen import RequestSeen
from ..events import Listener, TableProgress


class RequestCounts:
    """Counts requests and waits of the current table. The threads that send call it; `_lock` guards the counts."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._lock = threading.Lock()
        self.progress = TableProgress("", "")
        self._counted_until = 0.0

    def request(self, request: RequestSeen) -> None:
        """Count a request, answered or not."""
        progress = self.progress
        with self._lock:
            progress.requests += 1
            progress.source_bytes += request.body_bytes
            sent = time.monotonic() - request.seconds
            self._waited(progress, sent - request.waited_seconds, sent)
            if request.pause_seconds:
                self._waited(progress, sent + request.seconds, sent + request.seconds + request.pause_seconds)
            progress.waiting = ""
        self._listener.request(progress.table, request)
        if progress.table:
            self._listener.progress(progress)

    def _waited(self, progress: TableProgress, begin: float, end: float) -> None:
        """Requests wait beside each other: a moment in which several do counts once."""
        progress.waited_seconds += max(0.0, end - max(begin, self._counted_until))
        self._counted_until = max(self._counted_until, end)

    def wait(self, wait: Wait) -> None:
        """Report that requests are paused, and why."""
        until = (datetime.now(UTC) + timedelta(seconds=wait.seconds)).isoformat(timespec="seconds").replace("+00:00", "Z")
        with self._lock:
            self.progress.waiting = f"until {until}: {wait.why or 'the pace'}"
        self._listener.progress(self.progress)
