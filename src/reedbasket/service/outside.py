"""What a run is given of the world, by way of the store."""

from __future__ import annotations

import threading

from ..core.allowed_paths import Places
from ..core.runs import Outside
from ..core.runs.planning.order import SourceOrder
from ..store import Store, secrets
from ..store.pace import StorePacer
from ..store.tokens import StoreVault


def outside_of(
    store: Store,
    order: SourceOrder,
    stop: threading.Event | None = None,
    wind_up: threading.Event | None = None,
    places: Places | None = None,
) -> Outside:
    return Outside(
        reveal=lambda name: secrets.reveal(store, name),
        places=places or store.places,
        pacer=StorePacer(store, order.source, order.pace, order.retry, order.timeouts.request),
        stop=stop or threading.Event(),
        vault=lambda fingerprint: StoreVault(store, order.source, fingerprint),
        wind_up=wind_up or threading.Event(),
    )
