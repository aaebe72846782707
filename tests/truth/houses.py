"""The warehouses of one history, and what stands in them: read with each engine's own driver. Imports nothing of the product."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Mapping
from datetime import datetime
from itertools import count
from pathlib import Path
from typing import Any

import duckdb
import psycopg
import pymysql

from tests.truth.oracle import Rows

_numbers = count(1)


class Houses:
    """names: the engines of the warehouses. ports: of the servers of those that need one, by the engine's name."""

    def __init__(self, names: tuple[str, ...], folder: Path, ports: Mapping[str, int]) -> None:
        self.names, self.folder, self._ports = names, folder, ports
        self._eye: Any = None
        self._schema = f"marsh_{os.getpid()}_{next(_numbers)}"
        if "postgres" in names:
            port = ports["postgres"]
            self._eye = psycopg.connect(host="127.0.0.1", port=port, user="boss", dbname="postgres", autocommit=True)
            self._eye.execute(f"create schema {self._schema}; set search_path = {self._schema}; set timezone = 'UTC'")
        if "mysql" in names:
            self._in_mysql(f"create database `{self._schema}` character set latin1")

    def text(self) -> str:
        """Their definitions."""
        said = ""
        for name in self.names:
            place = f"path: marsh.{name}"
            if name == "postgres":
                place = f"host: 127.0.0.1\nport: {self._ports[name]}\ndatabase: postgres\nuser: boss\nschema: {self._schema}\n"
                place += "tls: {mode: disable}"
            if name == "mysql":
                place = (
                    f"host: 127.0.0.1\nport: {self._ports[name]}\ndatabase: {self._schema}\nuser: root\ntls: {{mode: disable}}"
                )
            said += f"---\nwarehouse: in_{name}\ntype: {name}\n{place}\n"
        return said

    def rows(self, engine: str, table: str) -> Rows | None:
        """All rows of a warehouse table as the engine holds them; None where there is no such table."""
        if engine == "postgres":
            return self._of_postgres(table)
        if engine == "mysql":
            return self._of_mysql(table)
        path = self.folder / f"marsh.{engine}"
        if not path.exists():
            return None
        return _of_sqlite(path, table) if engine == "sqlite" else _of_duckdb(path, table)

    def _of_postgres(self, table: str) -> Rows | None:
        found = self._eye.execute(
            "select column_name, data_type from information_schema.columns where table_schema = %s and table_name = %s",
            (self._schema, table),
        ).fetchall()
        if not found:
            return None
        # Times as text: no driver's idea of a zone comes between.
        listed = ", ".join(f'"{name}"::text' if "time" in kind else f'"{name}"' for name, kind in found)
        rows = self._eye.execute(f'select {listed} from "{table}"').fetchall()
        return [dict(zip((name for name, _ in found), row)) for row in rows]

    def _in_mysql(self, statement: str, *values: Any) -> list[dict[str, Any]]:
        with pymysql.connect(
            host="127.0.0.1", port=self._ports["mysql"], user="root", autocommit=True, charset="utf8mb4",
            cursorclass=pymysql.cursors.DictCursor,
        ) as connection, connection.cursor() as cursor:  # fmt: skip
            cursor.execute(statement, values or None)
            return list(cursor.fetchall())

    def _of_mysql(self, table: str) -> Rows | None:
        there = "select 1 from information_schema.tables where table_schema = %s and table_name = %s"
        if not self._in_mysql(there, self._schema, table):
            return None
        rows = self._in_mysql(f"select * from `{self._schema}`.`{table}`")
        # Its times have no zone, and are in UTC.
        return [{k: f"{v}+00" if isinstance(v, datetime) else v for k, v in row.items()} for row in rows]

    def close(self) -> None:
        if "mysql" in self.names:
            self._in_mysql(f"drop database `{self._schema}`")
        if self._eye is not None:
            self._eye.execute(f"drop schema {self._schema} cascade")
            self._eye.close()


def _of_sqlite(path: Path, table: str) -> Rows | None:
    db = sqlite3.connect(path)
    db.row_factory = sqlite3.Row
    try:
        if not db.execute("select 1 from sqlite_master where name = ?", (table,)).fetchone():
            return None
        return [dict(row) for row in db.execute(f'select * from "{table}"')]
    finally:
        db.close()


def _of_duckdb(path: Path, table: str) -> Rows | None:
    with duckdb.connect(str(path), read_only=True) as connection:
        connection.execute("set TimeZone = 'UTC'")
        if not connection.execute("select 1 from duckdb_tables() where table_name = ?", [table]).fetchall():
            return None
        found = connection.sql(f'select * from "{table}"')
        listed = ", ".join(
            f'cast("{name}" as varchar) as "{name}"' if "TIME" in str(kind) else f'"{name}"'
            for name, kind in zip(found.columns, found.types)
        )
        return list(connection.sql(f'select {listed} from "{table}"').to_arrow_table().to_pylist())
