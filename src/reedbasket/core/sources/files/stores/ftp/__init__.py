"""Files over FTP, plain or with TLS."""

from .....kinds import StoreKind

_KEYS = ("user", "password")
KIND = StoreKind(f"{__name__}.store", keys=_KEYS, port=21)
WITH_TLS = StoreKind(f"{__name__}.store", keys=(*_KEYS, "tls"), port=21)
