"""Opening a warehouse from its definition."""

from __future__ import annotations

from collections.abc import Callable

from ..allowed_paths import Places
from ..kinds import WAREHOUSES, load
from ..spec.warehouse import Warehouse as WarehouseDefinition
from .warehouse import Warehouse


def open_warehouse(definition: WarehouseDefinition, places: Places, reveal: Callable[[str], str]) -> Warehouse:
    """Open a warehouse for loading and reading.

    Args:
        definition: its definition.
        places: where files may lie.
        reveal: gives a secret by its name.

    Raises:
        PlaceNotAllowed: its path is not allowed.
        SecretMissing: its password is not set.
        DriverMissing: its driver is not installed.
        WarehouseError: it cannot be opened.
    """
    kind = WAREHOUSES.get(definition.type)
    opened: Warehouse = load(kind.module, kind.extra).open_from(definition, places, reveal)
    return opened
