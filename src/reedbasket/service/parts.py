"""The parts of a running service, as its views reach them."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from ..store import Store
from .auth import Tries
from .looking import Looks
from .openid import OpenId
from .scheduler import Scheduler
from .settings import Settings
from .workers import Workers


@dataclass
class Parts:
    """What views reach through `current_app.extensions['reed']`. watchers: live streams open now, changed only
    through `watching`. closing: the service is being stopped, and streams end."""

    store: Store
    workers: Workers
    scheduler: Scheduler
    looks: Looks
    settings: Settings
    url: str
    tries: Tries = field(default_factory=Tries)
    watchers: int = 0
    closing: bool = False
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.openid = OpenId(self.settings, self.looks)

    @contextmanager
    def watching(self) -> Iterator[None]:
        """One more stream is open, as long as it lasts. `_lock` guards the count: several threads stream."""
        with self._lock:
            self.watchers += 1
        try:
            yield
        finally:
            with self._lock:
                self.watchers -= 1
