"""Opening a database, as a source, by its definition."""

from __future__ import annotations

import threading
from importlib import import_module

from ...allowed_paths import Places
from ...kinds import SOURCES
from ...spec.source import DatabaseSource
from .database import Database


def open_database(source: DatabaseSource, password: str | None, places: Places, stop: threading.Event) -> Database:
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
    kind = SOURCES.get(source.type or "")
    opened: Database = import_module(kind.module).open_from(source, password, places, stop)
    return opened
