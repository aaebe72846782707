"""What api-* are measured against: a page at a time from urllib3 through dicts into tables whose columns are known beforehand."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

Rows = list[dict[str, Any]]

TABLES = [
    """create table {schema}records (id text primary key, number bigint, name text, state text, weight double precision,
       checked boolean, place_landing text, place_berth bigint, place_lat double precision, made_at text, updated_at text)""",
    """create table {schema}records_lines (parent text, pos bigint, item text, count bigint, price double precision,
       primary key (parent, pos))""",
]


def flatten(record: dict[str, Any], prefix: str = "") -> dict[str, Any]:
    flat: dict[str, Any] = {}
    for name, value in record.items():
        if isinstance(value, dict):
            flat.update(flatten(value, f"{prefix}{name}_"))
        elif not isinstance(value, list):
            flat[prefix + name] = value
    return flat


def pages(url: str) -> Iterator[tuple[Rows, Rows]]:
    """(parents, children) of each page."""
    import orjson
    import urllib3

    http = urllib3.PoolManager()
    token: str | None = ""
    while token is not None:
        body = orjson.loads(http.request("GET", f"{url}/records?after={token or 0}").data)
        parents, children = [], []
        for record in body["items"]:
            parents.append(flatten(record))
            for position, line in enumerate(record["lines"]):
                children.append({"parent": record["id"], "pos": position, **flatten(line)})
        yield parents, children
        token = body["meta"]["next"]


def insert_page(db: sqlite3.Connection, parents: Rows, children: Rows) -> None:
    db.executemany(
        """insert or replace into records values (:id, :number, :name, :state, :weight, :checked, :place_landing,
           :place_berth, :place_lat, :made_at, :updated_at)""",
        parents,
    )
    db.executemany("insert or replace into records_lines values (:parent, :pos, :item, :count, :price)", children)


def into_sqlite(url: str, folder: Path, place: dict[str, Any]) -> float:
    began = time.perf_counter()
    db = sqlite3.connect(folder / place["path"])
    db.execute("pragma journal_mode = wal")
    db.execute("pragma synchronous = normal")
    for table in TABLES:
        db.execute(table.format(schema=""))
    for parents, children in pages(url):
        insert_page(db, parents, children)
    db.commit()
    return time.perf_counter() - began


def into_duckdb(url: str, folder: Path, place: dict[str, Any]) -> float:
    """Plain inserts without keys, the fastest that DuckDB has."""
    import duckdb
    import pyarrow as pa

    began = time.perf_counter()
    db = duckdb.connect(str(folder / place["path"]))
    for table in TABLES:
        db.execute(table.format(schema="").replace(" primary key,", ",").replace(",\n       primary key (parent, pos)", ""))
    db.begin()
    for parents, children in pages(url):
        for name, rows in (("records", parents), ("records_lines", children)):
            db.register("page", pa.Table.from_pylist(rows))
            db.execute(f"insert into {name} by name select * from page")
            db.unregister("page")
    db.commit()
    db.close()
    return time.perf_counter() - began


def into_postgres(url: str, folder: Path, place: dict[str, Any]) -> float:
    """Binary COPY of each page's columns into tables with their keys."""
    import pyarrow as pa
    from adbc_driver_postgresql import dbapi

    began = time.perf_counter()
    schema = place["schema"]
    with dbapi.connect(address(place)) as db, db.cursor() as cursor:
        cursor.execute(f"create schema {schema}")
        for table in TABLES:
            cursor.execute(table.format(schema=f"{schema}."))
        for parents, children in pages(url):
            for name, rows in (("records", parents), ("records_lines", children)):
                cursor.adbc_ingest(name, pa.Table.from_pylist(rows), mode="append", db_schema_name=schema)
        db.commit()
    return time.perf_counter() - began


def address(place: dict[str, Any]) -> str:
    return f"postgresql://{place['user']}@{place['host']}:{place['port']}/{place['database']}"


def count_of(engine: str, folder: Path, place: dict[str, Any]) -> int:
    """Rows of the parent table, after either."""
    statement = "select count(*) from "
    if engine == "sqlite":
        return int(sqlite3.connect(folder / place["path"]).execute(statement + "records").fetchone()[0])
    if engine == "duckdb":
        import duckdb

        found = duckdb.connect(str(folder / place["path"])).execute(statement + "records").fetchone()
    else:
        import psycopg

        with psycopg.connect(address(place)) as db:
            found = db.execute(f"{statement}{place['schema']}.records").fetchone()
    assert found is not None
    return int(found[0])


BY_HAND: dict[str, Callable[[str, Path, dict[str, Any]], float]] = {
    "sqlite": into_sqlite,
    "duckdb": into_duckdb,
    "postgres": into_postgres,
}
