"""Which engine a warehouse definition means."""

from __future__ import annotations

from pathlib import Path

from ..spec.model import Warehouse as WarehouseDefinition
from .sqlite.warehouse import SqliteWarehouse
from .warehouse import Warehouse


def open_warehouse(definition: WarehouseDefinition, folder: Path) -> Warehouse:
    """Open for loading and reading. A relative path starts in `folder`. Raises WarehouseError."""
    return SqliteWarehouse(folder / definition.path)
