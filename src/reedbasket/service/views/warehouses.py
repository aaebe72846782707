"""Warehouses, their tables and rows; read only."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Annotated, Any

from pydantic import Field

from ... import wire
from ...core.errors import NotFound
from ...core.load import Warehouse, open_warehouse
from ...core.load.profile import profile
from ...core.load.warehouse import QueryResult
from ...core.spec.model import Warehouse as WarehouseDefinition
from ...store import definitions, secrets
from ..operations import Body, Query
from .shared import operations, parts, shown


class RowsPart(Query):
    limit: Annotated[int, Field(ge=1, le=1000)] = 50
    offset: Annotated[int, Field(ge=0, le=2**53)] = 0


class Statement(Body):
    sql: Annotated[str, Field(min_length=1, max_length=100_000)]
    limit: Annotated[int, Field(ge=1, le=10_000)] = 200
    seconds: Annotated[float, Field(gt=0, le=50)] = 10


@operations.add("GET", "/api/v1/warehouses", "warehouses", answer=list[wire.Warehouse])
def list_warehouses() -> Any:
    found = definitions.basket(parts().store).warehouses
    return [{"name": n, "on": w.on, "about": w.about, "where": _where(w)} for n, w in sorted(found.items())]


@operations.add("GET", "/api/v1/warehouses/{warehouse}/tables", "its tables, counted", answer=list[wire.Table], problems=(404,))
def list_tables(warehouse: str) -> Any:
    with _opened(warehouse) as found:
        return [{**vars(t), "columns": [{"name": n, "type": k} for n, k in t.columns]} for t in found.tables()]


@operations.add(
    "GET",
    "/api/v1/warehouses/{warehouse}/tables/{table}/rows",
    "its rows, the latest loaded first",
    answer=wire.Rows,
    query=RowsPart,
    problems=(404, 422),
)
def table_rows(warehouse: str, table: str, query: RowsPart) -> Any:
    with _opened(warehouse) as found:
        return _rows(found.rows(table, limit=query.limit, offset=query.offset))


@operations.add(
    "POST",
    "/api/v1/warehouses/{warehouse}/query",
    "ask with SQL; read only, bounded in rows and time",
    answer=wire.Rows,
    body=Statement,
    problems=(404, 422),
)
def query_warehouse(warehouse: str, body: Statement) -> Any:
    with _opened(warehouse) as found:
        return _rows(found.query(body.sql, limit=body.limit, seconds=body.seconds))


def _where(warehouse: WarehouseDefinition) -> str:
    if warehouse.on != "postgres":
        return warehouse.path or ""
    return f"{warehouse.host}:{warehouse.server_port}/{warehouse.database}, schema {warehouse.schema_}"


@operations.add(
    "POST",
    "/api/v1/warehouses/{warehouse}/check",
    "each step on the way to loading into it, with its result",
    answer=list[wire.CheckStep],
    problems=(404,),
)
def check_warehouse(warehouse: str) -> Any:
    with _opened(warehouse) as found:
        return [vars(step) for step in found.check()]


@operations.add(
    "GET",
    "/api/v1/warehouses/{warehouse}/tables/{table}/profile",
    "statistics of each column",
    answer=wire.Profile,
    problems=(404, 422),
)
def table_profile(warehouse: str, table: str) -> Any:
    with _opened(warehouse) as found:
        rows, columns = profile(found, table)
        return {"table": table, "rows": rows, "columns": [column.as_dict() for column in columns]}


@contextmanager
def _opened(name: str) -> Iterator[Warehouse]:
    store = parts().store
    known = definitions.basket(store).warehouses
    if name not in known:
        raise NotFound(
            "looking up the warehouse",
            name,
            found=f"warehouses: {', '.join(sorted(known)) or 'none'}",
            mend="apply a basket that defines it",
            code="warehouse.not_found",
        )
    warehouse = open_warehouse(known[name], store.folder, lambda name: secrets.reveal(store, name))
    try:
        yield warehouse
    finally:
        warehouse.close()


def _rows(result: QueryResult) -> dict[str, Any]:
    return {
        "columns": [{"name": n, "type": k} for n, k in result.columns],
        "rows": [[shown(v) for v in row] for row in result.rows],
        "truncated": result.truncated,
        "seconds": round(result.seconds, 4),
    }
