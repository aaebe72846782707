"""What a run needs from outside, from the store."""

from __future__ import annotations

import threading

from ..core.allowed_paths import Places
from ..core.runs import RunContext
from ..core.runs.planning.order import ResolvedSource
from ..store import Store, secrets
from ..store.pace import StorePacer
from ..store.tokens import StoreVault


def run_context_of(
    store: Store,
    order: ResolvedSource,
    stop: threading.Event | None = None,
    wind_up: threading.Event | None = None,
    places: Places | None = None,
) -> RunContext:
    """What a run needs of the service: secrets, pace, stop, events."""
    return RunContext(
        reveal=lambda name: secrets.reveal(store, name),
        places=places or store.places,
        pacer=StorePacer(store, order.source, order.rate_limit, order.retry, order.timeouts.total),
        stop=stop or threading.Event(),
        vault=lambda fingerprint: StoreVault(store, order.source, fingerprint),
        wind_up=wind_up or threading.Event(),
    )
