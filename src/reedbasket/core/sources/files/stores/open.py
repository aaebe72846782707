"""Opening a store of files by its definition."""

from __future__ import annotations

from collections.abc import Callable

from ....allowed_paths import Places
from ....kinds import load
from ....spec.file_source import FileSource
from ..store import Store


def open_store(source: FileSource, reveal: Callable[[str], str], places: Places) -> Store:
    """For listing, reading and writing.

    Args:
        source: what people wrote.
        reveal: the value of a secret by its name.
        places: where files may lie.

    Raises:
        PlaceNotAllowed: it lies where none may.
        SecretMissing: its password is not stored.
        DriverMissing: its library is not installed.
        SourceError: it cannot be opened.
    """
    opened: Store = load(source.store.module, source.store.extra).open_from(source, reveal, places)
    return opened


def password_of(source: FileSource, reveal: Callable[[str], str]) -> str | None:
    """The password's value; None where the source names none."""
    return reveal(source.password.secret) if source.password else None


def authority_of(source: FileSource, places: Places) -> str | None:
    """The file with the certificate that the server's is to be signed by; None for those that the machine trusts."""
    return str(places.file(source.tls.root)) if source.tls.root else None
