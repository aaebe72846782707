"""Which stores of files there are, and opening one by its definition.

A store is a module of its own and one line here. The module has `open_from(source, reveal, places)`; it is imported on first use, and its
library with it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module

from ....allowed_paths import Places
from ....spec.model import Source
from ..store import Store

# {scheme of the source's address: its module}; '' for a path of this machine.
SCHEMES: Mapping[str, str] = {
    "": f"{__package__}.folder",
    "ftp": f"{__package__}.ftp",
    "ftps": f"{__package__}.ftp",
    "http": f"{__package__}.web",
    "https": f"{__package__}.web",
    "s3": f"{__package__}.s3",
    "sftp": f"{__package__}.sftp",
}


def open_store(source: Source, reveal: Callable[[str], str], places: Places) -> Store:
    """For listing, reading and writing.

    Args:
        source: what people wrote.
        reveal: the value of a secret by its name.
        places: where files may lie.

    Raises:
        PlaceNotAllowed: it lies where none may.
        SecretMissing: its password is not stored.
        SourceError: it cannot be opened.
    """
    scheme = "" if source.path is not None else source.scheme
    opened: Store = import_module(SCHEMES[scheme]).open_from(source, reveal, places)
    return opened


def password_of(source: Source, reveal: Callable[[str], str]) -> str | None:
    """The password's value; None where the source names none."""
    return reveal(source.password.secret) if source.password else None


def authority_of(source: Source, places: Places) -> str | None:
    """The file with the certificate that the server's is to be signed by; None for those that the machine trusts."""
    return str(places.file(source.tls.root)) if source.tls.root else None
