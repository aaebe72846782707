"""A folder on this machine."""

from .....kinds import StoreKind

KIND = StoreKind(f"{__name__}.store", keys=(), port=None)
