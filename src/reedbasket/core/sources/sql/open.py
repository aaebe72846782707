"""Opening a database by its definition; drivers are imported on first use."""

from __future__ import annotations

import threading

from ...allowed_paths import Places
from ...spec.model import Source
from .database import Database


def open_database(source: Source, password: str | None, places: Places, stop: threading.Event) -> Database:
    """places: where files may lie. Raises PlaceNotAllowed, SourceError."""
    if source.on == "sqlite":
        from ..sqlite.database import SqliteSource

        assert source.path is not None
        return SqliteSource(places.file(source.path), source.zone, source.statement_timeout, stop)
    if source.on == "mysql":
        from ..mysql.connect import MysqlAddress
        from ..mysql.database import MysqlSource

        return MysqlSource(MysqlAddress(source, password, places), source.zone, source.statement_timeout, stop)
    from ...postgres import Address
    from ..postgres.database import PostgresSource

    address = Address(source, source.schema_ or "public", password, places, source.zone)
    return PostgresSource(address, source.statement_timeout, stop)
