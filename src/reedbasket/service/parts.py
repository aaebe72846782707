"""The parts of a running service, as its views reach them."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..store import Store
from .auth import Tries
from .call_limits import Shares
from .inspection_pool import InspectionPool
from .isolated import IsolatedCalls
from .openid import OpenId
from .scheduler import Scheduler
from .settings import Settings
from .workers import Workers

_APART_AT_ONCE = 4


@dataclass
class Parts:
    """What views reach through `current_app.extensions['reed']`. closing: the service is being stopped, and streams
    end. Of its threads half may stream, and all others but one wait for something (`slow`): one always answers what takes no time."""

    store: Store
    workers: Workers
    scheduler: Scheduler
    inspection: InspectionPool
    settings: Settings
    url: str
    tries: Tries = field(default_factory=Tries)
    closing: bool = False

    def __post_init__(self) -> None:
        self.openid = OpenId(self.settings, self.inspection)
        self.isolated = IsolatedCalls(self.store, _APART_AT_ONCE)
        half = self.settings.threads // 2
        self.streams = Shares(half, "streams")
        self.slow = Shares(half - 1, "calls that take long")
