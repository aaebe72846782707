"""Files over HTTP."""

from .....kinds import StoreKind

_KEYS = ("user", "password")
KIND = StoreKind(f"{__name__}.store", keys=_KEYS, port=80, lists=False, writes=False)
WITH_TLS = StoreKind(f"{__name__}.store", keys=(*_KEYS, "tls"), port=443, lists=False, writes=False)
