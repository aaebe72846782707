"""Which engine a warehouse definition means. Drivers are loaded on first use."""

from __future__ import annotations

from collections.abc import Callable

from ..allowed_paths import Places
from ..spec.model import Warehouse as WarehouseDefinition
from .warehouse import Warehouse


def open_warehouse(definition: WarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> Warehouse:
    """For loading and reading. places: where it may lie. reveal: the value of a secret by name.

    Raises PlaceNotAllowed, WarehouseError, SecretMissing.
    """
    if definition.on == "sqlite":
        from .sqlite.warehouse import SqliteWarehouse

        assert definition.path is not None
        return SqliteWarehouse(places.warehouse(definition.path))
    if definition.on == "duckdb":
        from .duckdb.warehouse import DuckWarehouse

        assert definition.path is not None
        return DuckWarehouse(places.warehouse(definition.path))
    from .postgres.warehouse import PostgresWarehouse

    return PostgresWarehouse(definition, reveal(definition.password.secret) if definition.password else None, places)
