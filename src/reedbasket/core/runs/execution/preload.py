"""Drivers imported ahead, and what Arrow loads when first used: the first run of a process would else spend up to half a second on that."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module

import numpy as np
import pyarrow as pa

_OF_SOURCES = {"postgres": ".sources.postgres.database", "mysql": ".sources.mysql.database"}
_OF_WAREHOUSES = {
    "sqlite": ".warehouses.sqlite.warehouse",
    "duckdb": ".warehouses.duckdb.warehouse",
    "postgres": ".warehouses.postgres.warehouse",
}


def import_drivers(sources: Iterable[str], warehouses: Iterable[str]) -> None:
    """sources, warehouses: what they are on. Of other kinds nothing is worth it."""
    named = [_OF_SOURCES.get(on) for on in sources] + [_OF_WAREHOUSES.get(on) for on in warehouses]
    for module in sorted({name for name in named if name}):
        import_module(module, "reedbasket.core")
    # With the first array of numpy's, and with the first function over arrays.
    pa.array(np.arange(1)).take(pa.array([0]))
