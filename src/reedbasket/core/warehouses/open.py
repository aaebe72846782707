"""Opening a warehouse by its definition."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module

from ..allowed_paths import Places
from ..kinds import WAREHOUSES
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
        WarehouseError: it cannot be opened.
    """
    kind = WAREHOUSES.get(definition.type)
    opened: Warehouse = import_module(kind.module).open_from(definition, places, reveal)
    return opened
