"""Warehouses, their tables and rows; read-only."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ... import wire
from ...core.errors import NotFound
from ...store import definitions
from ..inspection import warehouses as inspection
from ..operations import Body, Query
from .shared import inspect_in_process, inspect_within, isolated, operations, parts

_GRACE_SECONDS = 2.0
# What stands in a warehouse may be a view of somebody's, and take for ever.
_PAGE_SECONDS = 300.0
# The engine's own 180 MB, what it does not count of a function's values, and rows on their way out.
_QUERY_MB = 2048


class RowsPart(Query):
    """Which rows."""

    limit: Annotated[int, Field(ge=1, le=1000)] = 50
    offset: Annotated[int, Field(ge=0, le=2**53)] = 0


class Statement(Body):
    """A SELECT, and its limits."""

    sql: Annotated[str, Field(min_length=1, max_length=100_000)]
    limit: Annotated[int, Field(ge=1, le=10_000)] = 200
    seconds: Annotated[float, Field(gt=0, le=50)] = 10


@operations.add("GET", "/api/v1/warehouses", "list warehouses")
def list_warehouses() -> list[wire.Warehouse]:
    found = definitions.basket(parts().store).warehouses
    return [{"name": n, "type": w.type, "description": w.description, "where": w.where} for n, w in sorted(found.items())]


@operations.add("GET", "/api/v1/warehouses/{warehouse}/tables", "a warehouse's tables with their row counts", problems=(404,))
def list_tables(warehouse: str) -> list[wire.Table]:
    return inspect_within(_PAGE_SECONDS, inspection.tables, _known(warehouse))


@operations.add(
    "GET",
    "/api/v1/warehouses/{warehouse}/tables/{table}/rows",
    "a table's rows, latest loaded first",
    query=RowsPart,
    problems=(404, 422),
)
def table_rows(warehouse: str, table: str, query: RowsPart) -> wire.Rows:
    return inspect_within(_PAGE_SECONDS, inspection.rows, _known(warehouse), table, query.limit, query.offset)


@operations.add(
    "POST",
    "/api/v1/warehouses/{warehouse}/query",
    "query a warehouse with SQL; read-only, limited in rows and time",
    body=Statement,
    problems=(404, 422),
)
def query_warehouse(warehouse: str, body: Statement) -> wire.Rows:
    # The engine ends what takes too long by itself, but not within one call of a function.
    most = body.seconds + _GRACE_SECONDS
    return isolated(most, _QUERY_MB, inspection.queried, _known(warehouse), body.sql, body.limit, body.seconds)


@operations.add(
    "POST",
    "/api/v1/warehouses/{warehouse}/check",
    "test a warehouse step by step",
    problems=(404,),
)
def check_warehouse(warehouse: str) -> list[wire.CheckStep]:
    return inspect_in_process(inspection.check, _known(warehouse))


@operations.add(
    "GET",
    "/api/v1/warehouses/{warehouse}/tables/{table}/profile",
    "statistics of each column",
    problems=(404, 422),
)
def table_profile(warehouse: str, table: str) -> wire.Profile:
    return inspect_within(_PAGE_SECONDS, inspection.profiled, _known(warehouse), table)


def _known(name: str) -> str:
    """Raises NotFound."""
    known = definitions.basket(parts().store).warehouses
    if name not in known:
        raise NotFound(
            "looking up the warehouse",
            name,
            found=f"warehouses: {', '.join(sorted(known)) or 'none'}",
            fix="apply a basket that defines it",
            code="warehouse.not_found",
        )
    return name
