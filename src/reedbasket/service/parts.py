"""The parts of a running service, as its views reach them."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..store import Store
from .auth import AttemptLimiter
from .call_limits import CallLimiter
from .inspection_pool import InspectionPool
from .isolated import IsolatedCalls
from .openid import OpenId
from .scheduler import Scheduler
from .settings import Settings
from .workers import Workers

_APART_AT_ONCE = 4


@dataclass
class Parts:
    """What views reach through `current_app.extensions['reed']`.

    Attributes:
        closing: the service is being stopped, and streams end.
        slow: limits calls that wait for something. Half of the threads may stream, and all others but one may wait: one always answers
            what takes no time.
    """

    store: Store
    workers: Workers
    scheduler: Scheduler
    inspection: InspectionPool
    settings: Settings
    url: str
    tries: AttemptLimiter = field(default_factory=AttemptLimiter)
    closing: bool = False

    def __post_init__(self) -> None:
        self.openid = OpenId(self.settings, self.inspection)
        self.isolated = IsolatedCalls(self.store, _APART_AT_ONCE)
        half = self.settings.threads // 2
        self.streams = CallLimiter(half, "streams")
        self.slow = CallLimiter(half - 1, "long calls")
