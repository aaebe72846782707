"""Files over SFTP."""

from .....kinds import StoreKind

KIND = StoreKind(f"{__name__}.store", keys=("user", "password", "key", "host_key"), port=22, extra="sftp")
