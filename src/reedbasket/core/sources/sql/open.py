"""Opening a database, as a source, by its definition."""

from __future__ import annotations

import threading

from ...allowed_paths import Places
from ...kinds import SOURCES, load
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
        DriverMissing: its driver is not installed.
        SourceError: it cannot be opened.
    """
    kind = SOURCES.get(source.type or "")
    opened: Database = load(kind.module, kind.extra).open_from(source, password, places, stop)
    return opened
