"""Files in an S3-compatible store."""

from .....kinds import StoreKind

# The bucket stands where others have their server; `endpoint` says where that is.
KIND = StoreKind(f"{__name__}.store", keys=("endpoint", "region", "user", "password", "tls"), port=None, extra="s3")
