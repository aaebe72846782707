"""The definition of a SQLite file as a warehouse."""

from __future__ import annotations

from typing import Literal

from ...kinds import WarehouseKind
from ...spec.warehouse import FileWarehouse


class SqliteWarehouseDefinition(FileWarehouse):
    """A SQLite file as a warehouse; `path` names it."""

    type: Literal["sqlite"]


KIND = WarehouseKind("SQLite", SqliteWarehouseDefinition, f"{__package__}.warehouse")
