"""A SQLite file as a warehouse: what people write of it."""

from __future__ import annotations

from typing import Literal

from ...kinds import WarehouseKind
from ...spec.warehouse import FileWarehouse


class SqliteWarehouseDefinition(FileWarehouse):
    """path: the file."""

    type: Literal["sqlite"]


KIND = WarehouseKind("SQLite", SqliteWarehouseDefinition, f"{__package__}.warehouse")
