"""A DuckDB file as a warehouse: what people write of it."""

from __future__ import annotations

from typing import Literal

from ...kinds import WarehouseKind
from ...spec.warehouse import FileWarehouse


class DuckWarehouseDefinition(FileWarehouse):
    """path: the file."""

    type: Literal["duckdb"]


KIND = WarehouseKind("DuckDB", DuckWarehouseDefinition, f"{__package__}.warehouse")
