"""Everything that inspections need, imported once, in the process that they are forked from."""

from __future__ import annotations

from contextlib import suppress
from importlib import import_module

import duckdb

from . import definitions, drafts, feeds, openid, sources, warehouses

# Drivers, where they are installed.
for _driver in ("psycopg", "pymysql"):
    with suppress(ModuleNotFoundError):
        import_module(_driver)

__all__ = ["definitions", "drafts", "duckdb", "feeds", "openid", "sources", "warehouses"]
