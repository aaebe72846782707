"""Inspecting warehouses: tables, rows, profiles, and SQL that only reads."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from ... import wire
from ...core.errors import QueryRefused
from ...core.warehouses import Warehouse, open_warehouse
from ...core.warehouses.profile import profile
from ...core.warehouses.warehouse import QueryResult
from ...store import Store, definitions, secrets
from ...wire.typed import typed
from .values import shown

# Whoever looks reads no more; the process that answers holds it whole.
_LARGEST_ANSWER = 32_000_000


def tables(store: Store, warehouse: str) -> list[wire.Table]:
    """Its tables, with exact numbers of rows."""
    with _opened(store, warehouse) as found:
        return [typed(wire.Table, vars(t), columns=[{"name": n, "type": k} for n, k in t.columns]) for t in found.tables()]


def rows(store: Store, warehouse: str, table: str, limit: int, offset: int) -> wire.Rows:
    """Rows of a table in the order in which they are stored."""
    with _opened(store, warehouse) as found:
        return _rows(found.rows(table, limit=limit, offset=offset))


def queried(store: Store, warehouse: str, sql: str, limit: int, seconds: float) -> wire.Rows:
    """The result of a SELECT."""
    with _opened(store, warehouse) as found:
        return _rows(found.query(sql, limit=limit, seconds=seconds))


def check(store: Store, warehouse: str) -> list[wire.CheckStep]:
    """Each step of connecting and loading."""
    with _opened(store, warehouse) as found:
        return [typed(wire.CheckStep, vars(step)) for step in found.check()]


def profiled(store: Store, warehouse: str, table: str) -> wire.Profile:
    """Statistics of each column of a table."""
    with _opened(store, warehouse) as found:
        count, columns = profile(found, table)
        return {"table": table, "rows": count, "columns": [typed(wire.ColumnProfile, column.as_dict()) for column in columns]}


@contextmanager
def _opened(store: Store, name: str) -> Iterator[Warehouse]:
    definition = definitions.basket(store).warehouses[name]
    warehouse = open_warehouse(definition, store.places, lambda name: secrets.reveal(store, name))
    try:
        yield warehouse
    finally:
        warehouse.close()


def _rows(result: QueryResult) -> wire.Rows:
    size = sum(len(value) for row in result.rows for value in row if isinstance(value, str | bytes))
    if size > _LARGEST_ANSWER:
        raise QueryRefused(
            "returning rows",
            found=f"{size / 1e6:,.0f} MB of text and bytes; at most {_LARGEST_ANSWER // 1_000_000} are shown",
            fix="ask for fewer rows, or for parts of long values: left(column, 1000)",
        )
    return {
        "columns": [{"name": n, "type": k} for n, k in result.columns],
        "rows": [[shown(v) for v in row] for row in result.rows],
        "truncated": result.truncated,
        "seconds": round(result.seconds, 4),
    }
