"""Opening a database as a source, from its definition."""

from __future__ import annotations

import threading

from ...allowed_paths import Places
from ...kinds import SOURCES, load
from ...spec.source import DatabaseSource
from .database import Database


def open_database(source: DatabaseSource, password: str | None, places: Places, stop: threading.Event) -> Database:
    """Open a database for reading, in one snapshot if it has them.

    Args:
        source: its definition.
        password: None for none.
        places: where files may lie.
        stop: ends reads in progress.

    Raises:
        PlaceNotAllowed: its path is not allowed.
        DriverMissing: its driver is not installed.
        SourceError: it cannot be opened.
    """
    kind = SOURCES.get(source.type or "")
    opened: Database = load(kind.module, kind.extra).open_from(source, password, places, stop)
    return opened
