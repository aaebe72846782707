"""Opening a store by its definition; libraries are imported on first use."""

from __future__ import annotations

from collections.abc import Callable

from ....allowed_paths import Places
from ....spec.model import Source
from ..store import Store


def open_store(source: Source, reveal: Callable[[str], str], places: Places) -> Store:
    """places: where files may lie. Raises PlaceNotAllowed, SourceError, SecretMissing."""
    if source.path is not None:
        from .folder import FolderStore

        return FolderStore(places.file(source.path), places)
    password = reveal(source.password.secret) if source.password else None
    trust = str(places.file(source.tls.root)) if source.tls.root else None
    if source.scheme == "s3":
        from .s3 import S3Store

        return S3Store(source, password, trust)
    if source.scheme == "sftp":
        from .sftp import SftpStore

        return SftpStore(source, password, reveal(source.key.secret) if source.key else None)
    if source.scheme in ("ftp", "ftps"):
        from .ftp import FtpStore

        return FtpStore(source, password, trust)
    from .web import WebStore

    return WebStore(source, password, trust)
