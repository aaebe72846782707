"""Which engine a warehouse definition means. Drivers are loaded on first use."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ..spec.model import Warehouse as WarehouseDefinition
from .warehouse import Warehouse


def open_warehouse(definition: WarehouseDefinition, folder: Path, reveal: Callable[[str], str]) -> Warehouse:
    """For loading and reading. A relative path starts in `folder`. reveal: the value of a secret by name.

    Raises WarehouseError, SecretMissing.
    """
    if definition.on == "sqlite":
        from .sqlite.warehouse import SqliteWarehouse

        assert definition.path is not None
        return SqliteWarehouse(folder / definition.path)
    if definition.on == "duckdb":
        from .duckdb.warehouse import DuckWarehouse

        assert definition.path is not None
        return DuckWarehouse(folder / definition.path)
    from .postgres.warehouse import PostgresWarehouse

    return PostgresWarehouse(definition, reveal(definition.password.secret) if definition.password else None, folder)
