"""Opening a file store from its definition."""

from __future__ import annotations

from collections.abc import Callable

from ....allowed_paths import Places
from ....kinds import load
from ....spec.file_source import FileSource
from ..store import Store


def open_store(source: FileSource, reveal: Callable[[str], str], places: Places) -> Store:
    """Open a file store, for listing, reading and writing.

    Args:
        source: its definition.
        reveal: gives a secret by its name.
        places: where files may lie.

    Raises:
        PlaceNotAllowed: its path is not allowed.
        SecretMissing: its password is not set.
        DriverMissing: its library is not installed.
        SourceError: it cannot be opened.
    """
    opened: Store = load(source.store.module, source.store.extra).open_from(source, reveal, places)
    return opened


def password_of(source: FileSource, reveal: Callable[[str], str]) -> str | None:
    """The password; None if the source names none."""
    return reveal(source.password.secret) if source.password else None


def authority_of(source: FileSource, places: Places) -> str | None:
    """The file with the certificate authority of the server; None for those that the machine trusts."""
    return str(places.file(source.tls.root)) if source.tls.root else None
