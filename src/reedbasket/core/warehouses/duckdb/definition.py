"""The definition of a DuckDB file as a warehouse."""

from __future__ import annotations

from typing import Literal

from ...kinds import WarehouseKind
from ...spec.warehouse import FileWarehouse


class DuckWarehouseDefinition(FileWarehouse):
    """A DuckDB file as a warehouse; `path` names it."""

    type: Literal["duckdb"]


KIND = WarehouseKind("DuckDB", DuckWarehouseDefinition, f"{__package__}.warehouse")
