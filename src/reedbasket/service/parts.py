"""The parts of a running service, as its views reach them."""

from __future__ import annotations

import threading
from collections import Counter
from dataclasses import dataclass, field

from ..store import Store
from .apart import Apart
from .auth import Tries
from .looking import Looks
from .openid import OpenId
from .scheduler import Scheduler
from .settings import Settings
from .workers import Workers

_APART_AT_ONCE = 4


@dataclass
class Parts:
    """What views reach through `current_app.extensions['reed']`. watchers: live streams open now, changed only
    by `watch` and `unwatch`; `_lock` guards the counts. closing: the service is being stopped, and streams end."""

    store: Store
    workers: Workers
    scheduler: Scheduler
    looks: Looks
    settings: Settings
    url: str
    tries: Tries = field(default_factory=Tries)
    watchers: int = 0
    _watching: Counter[str] = field(default_factory=Counter)
    closing: bool = False
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.openid = OpenId(self.settings, self.looks)
        self.apart = Apart(self.store, _APART_AT_ONCE)

    def watch(self, who: str) -> str:
        """One more stream is open; `unwatch` follows. What is in the way, in words; '' for nothing."""
        with self._lock:
            if self.watchers >= self.settings.most_watchers:
                return f"{self.watchers} streams are open"
            if self._watching[who] >= self.settings.most_watchers_each:
                return f"{who} has {self._watching[who]} streams open"
            self.watchers += 1
            self._watching[who] += 1
        return ""

    def unwatch(self, who: str) -> None:
        with self._lock:
            self.watchers -= 1
            self._watching[who] -= 1
            if not self._watching[who]:
                del self._watching[who]
