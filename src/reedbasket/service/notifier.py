"""Sends notifications, by mail and to webhooks as CloudEvents. What fails is tried again, and shown once it is given up."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from ..store import Store, notifications
from .inspection.notifications import send
from .inspection_pool import InspectionPool
from .settings import Settings

log = logging.getLogger("reedbasket.notifications")
# 30 s, 1 min, 2 min … an hour: with ten tries some four hours, in which most mail servers are up again.
_MOST_TRIES = 10
_FIRST_PAUSE, _LONGEST_PAUSE = timedelta(seconds=30), timedelta(hours=1)
_LOOK_SECONDS = 1.0


class Notifier:
    """One thread. `url`: where people find the console."""

    def __init__(self, store: Store, inspection: InspectionPool, settings: Settings, url: Callable[[], str]) -> None:
        self._store = store
        self._inspection = inspection
        self._settings = settings
        self._url = url
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._work, name="notifier", daemon=True)

    def start(self) -> None:
        """Start to send, in a separate thread."""
        self._thread.start()

    def stop(self) -> None:
        """Stop sending."""
        self._closing.set()
        if self._thread.is_alive():
            self._thread.join(2)

    def _work(self) -> None:
        while not self._closing.wait(_LOOK_SECONDS):
            try:
                self.send_due()
            except Exception as error:  # a store that is locked, a disk that is full: they are there the next time
                log.error("notifications could not be read, and wait: %s", type(error).__name__)
                time.sleep(_LOOK_SECONDS)

    def send_due(self) -> None:
        """Send what is due."""
        for group in notifications.due(self._store, datetime.now(UTC)):
            ids = [one.id for one in group]
            why = self._inspection.ask(send, self._settings, self._url(), group)
            if not why:
                notifications.sent(self._store, ids)
                continue
            pause = min(_FIRST_PAUSE * 2 ** group[0].tries, _LONGEST_PAUSE)
            notifications.not_sent(self._store, ids, why, datetime.now(UTC) + pause, _MOST_TRIES)
            log.warning("%s %s: %s", group[0].channel, group[0].goes_to, why)
