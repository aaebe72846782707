"""Which warehouses there are, and opening one by its definition.

A kind is a package of its own and one line here. Its module has `open_from(definition, places, reveal)`; it is imported on first use, and
its driver with it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module

from ..allowed_paths import Places
from ..spec.model import Warehouse as WarehouseDefinition
from .warehouse import Warehouse

# {kind: its module}
KINDS: Mapping[str, str] = {
    "duckdb": f"{__package__}.duckdb.warehouse",
    "postgres": f"{__package__}.postgres.warehouse",
    "sqlite": f"{__package__}.sqlite.warehouse",
}


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
    opened: Warehouse = import_module(KINDS[definition.on]).open_from(definition, places, reveal)
    return opened
