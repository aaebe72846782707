"""Which databases there are as sources, and opening one by its definition.

A kind is a package of its own and one line here. Its module has `open_from(source, password, places, stop)`; it is imported on first
use, and its driver with it.
"""

from __future__ import annotations

import threading
from collections.abc import Mapping
from importlib import import_module

from ...allowed_paths import Places
from ...spec.model import Source
from .database import Database

_SOURCES = __package__.rpartition(".")[0]
# {kind: its module}
KINDS: Mapping[str, str] = {
    "mysql": f"{_SOURCES}.mysql.database",
    "postgres": f"{_SOURCES}.postgres.database",
    "sqlite": f"{_SOURCES}.sqlite.database",
}


def open_database(source: Source, password: str | None, places: Places, stop: threading.Event) -> Database:
    """For reading, in one snapshot where the database has such.

    Args:
        source: what people wrote.
        password: its value; None for none.
        places: where files may lie.
        stop: ends whatever is being read.

    Raises:
        PlaceNotAllowed: it lies where none may.
        SourceError: it cannot be opened.
    """
    opened: Database = import_module(KINDS[source.on or "postgres"]).open_from(source, password, places, stop)
    return opened
