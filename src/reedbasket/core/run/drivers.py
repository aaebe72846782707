"""Drivers imported ahead: the first run of a process would else spend up to half a second on that."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module

_OF_SOURCES = {"postgres": ".extract.sql.postgres.database", "mysql": ".extract.sql.mysql.database"}
_OF_WAREHOUSES = {
    "sqlite": ".load.sqlite.warehouse",
    "duckdb": ".load.duckdb.warehouse",
    "postgres": ".load.postgres.warehouse",
}


def import_drivers(sources: Iterable[str], warehouses: Iterable[str]) -> None:
    """sources, warehouses: what they are on. Of other kinds nothing is worth it."""
    named = [_OF_SOURCES.get(on) for on in sources] + [_OF_WAREHOUSES.get(on) for on in warehouses]
    for module in sorted({name for name in named if name}):
        import_module(module, "reedbasket.core")
