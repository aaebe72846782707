"""Opening a warehouse by its definition."""

from __future__ import annotations

from collections.abc import Callable

from ..allowed_paths import Places
from ..kinds import WAREHOUSES, load
from ..spec.warehouse import Warehouse as WarehouseDefinition
from .warehouse import Warehouse


def open_warehouse(definition: WarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> Warehouse:
    """For loading and reading.

    Args:
        definition: what people wrote.
        places: where files may lie.
        reveal: the value of a secret by its name.

    Raises:
        PlaceNotAllowed: it lies where none may.
        SecretMissing: its password is not stored.
        DriverMissing: its driver is not installed.
        WarehouseError: it cannot be opened.
    """
    kind = WAREHOUSES.get(definition.type)
    opened: Warehouse = load(kind.module, kind.extra).open_from(definition, places, reveal)
    return opened
