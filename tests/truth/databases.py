"""Databases that show a world as a table. Imports nothing of the product."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime
from decimal import Decimal
from itertools import count
from pathlib import Path
from typing import Any

import pymysql

from tests.truth.world import Row, write

COLUMNS = ("id", "name", "n", "amount", "price", "ok", "tags", "updated_at")
_numbers = count(1)


class Database:
    """One table `things` in a place of its own. `do` runs statements one by one, each committed; `change` is one transaction."""

    on = ""
    table = "things"
    mark = "%s"

    def text(self) -> str:
        """The source's definition, after its name."""
        raise NotImplementedError

    def do(self, *statements: str) -> None:
        raise NotImplementedError

    def transaction(self, statements: Sequence[tuple[str, Sequence[Any]]]) -> None:
        raise NotImplementedError

    def ask(self, statement: str) -> list[Any]:
        raise NotImplementedError

    def time(self, at: datetime) -> Any:
        return at

    def cut(self) -> None:
        """Everybody else's connection."""

    def refuse(self, refused: bool) -> None:
        """The reader may no longer read, or may again."""

    def hold(self, statement: str) -> None:
        """In a transaction that stays open until `let_go`."""
        self._held = self.connect()
        self._held.cursor().execute(statement)

    def let_go(self) -> None:
        self._held.rollback()
        self._held.close()

    def connect(self) -> Any:
        """A connection that commits nothing by itself."""
        raise NotImplementedError

    def change(self, gone: Sequence[int], changed: dict[int, Row], new: dict[int, Row]) -> None:
        m, names = self.mark, COLUMNS[1:]
        sets = ", ".join(f"{name} = {m}" for name in names)
        listed, marks = ", ".join(COLUMNS), ", ".join([m] * len(COLUMNS))
        statements: list[tuple[str, Sequence[Any]]] = [(f"delete from things where id = {m}", [n]) for n in gone]
        for number, row in changed.items():
            statements.append((f"update things set {sets} where id = {m}", [*self._values(row), number]))
        for number, row in new.items():
            statements.append((f"insert into things ({listed}) values ({marks})", [number, *self._values(row)]))
        self.transaction(statements)

    def _values(self, row: Row) -> list[Any]:
        values = [row.values[name] for name in COLUMNS[1:-1]]
        values[-1] = None if values[-1] is None else json.dumps(values[-1])
        return [*(str(v) if isinstance(v, Decimal) else v for v in values), self.time(row.at)]

    def close(self) -> None:
        pass


class InSqlite(Database):
    on, mark = "sqlite", "?"

    def __init__(self, servers: Any, folder: Path, writing: str) -> None:
        self._path, self._writing = folder / "dock.db", writing
        self.do(
            "pragma journal_mode = wal",
            """create table things (id integer primary key, name text, n integer, amount real, price text, ok boolean, tags json,
               updated_at datetime)""",
            "create index things_at on things (updated_at)",
        )

    def text(self) -> str:
        return "type: sqlite\npath: dock.db"

    def connect(self) -> Any:
        return sqlite3.connect(self._path, timeout=20)

    def do(self, *statements: str) -> None:
        db = sqlite3.connect(self._path, isolation_level=None, timeout=20)
        for statement in statements:
            db.execute(statement)
        db.close()

    def ask(self, statement: str) -> list[Any]:
        db = sqlite3.connect(self._path)
        try:
            return db.execute(statement).fetchall()
        finally:
            db.close()

    def transaction(self, statements: Sequence[tuple[str, Sequence[Any]]]) -> None:
        db = sqlite3.connect(self._path, timeout=20)
        with db:
            for statement, values in statements:
                db.execute(statement, values)
        db.close()

    def time(self, at: datetime) -> Any:
        return write(at, self._writing)


class InPostgres(Database):
    on = "postgres"

    def __init__(self, servers: Any, folder: Path, writing: str) -> None:
        self._cluster = servers.cluster
        self.schema = f"dock_{os.getpid()}_{next(_numbers)}"
        self._db = self._cluster.connect()
        if not self.ask("select 1 from pg_roles where rolname = 'reader'"):
            self.do("create role reader login replication")
        self.do(
            f"create schema {self.schema}",
            f"set search_path = {self.schema}",
            "set timezone = 'UTC'",
            """create table things (id bigint primary key, name text, n bigint, amount double precision, price numeric(24, 4), ok boolean,
               tags jsonb, updated_at timestamptz)""",
            "create index on things (updated_at)",
            f"grant usage on schema {self.schema} to reader",
            "grant select on things to reader",
            "drop publication if exists reed_truth",
            "create publication reed_truth for table things",
        )

    def text(self) -> str:
        return f"""type: postgres
host: 127.0.0.1
port: {self._cluster.port}
database: postgres
user: reader
schema: {self.schema}
tls: {{mode: disable}}"""

    def connect(self) -> Any:
        connection = self._cluster.connect(autocommit=False)
        connection.execute(f"set search_path = {self.schema}")
        return connection

    def do(self, *statements: str) -> None:
        for statement in statements:
            self._db.execute(statement)

    def ask(self, statement: str) -> list[Any]:
        found: list[Any] = self._db.execute(statement).fetchall()
        return found

    def transaction(self, statements: Sequence[tuple[str, Sequence[Any]]]) -> None:
        with self._db.transaction():
            for statement, values in statements:
                self._db.execute(statement, values)

    def cut(self) -> None:
        self.do("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'")

    def refuse(self, refused: bool) -> None:
        self.do("revoke select on things from reader" if refused else "grant select on things to reader")

    def close(self) -> None:
        self.cut()
        self.do(
            "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = 'reed_truth' and not active"
        )
        self.do("drop publication if exists reed_truth", f"drop schema {self.schema} cascade")
        self._db.close()


class InMaria(Database):
    on = "mariadb"

    def __init__(self, servers: Any, folder: Path, writing: str) -> None:
        self._maria = servers.maria
        self.name = f"dock_{os.getpid()}_{next(_numbers)}"
        self._maria.do(f"create database {self.name} character set utf8mb4")
        self._db = self._maria.connect(database=self.name)
        self.do(
            "set time_zone = '+00:00'",
            "create user if not exists reader",
            "grant replication slave, binlog monitor on *.* to reader",
            """create table things (id bigint primary key, name text, n bigint, amount double, price decimal(24, 4), ok boolean, tags json,
               updated_at datetime(6), key (updated_at))""",
            f"grant select on {self.name}.* to reader",
        )

    def text(self) -> str:
        return f"""type: mysql
host: 127.0.0.1
port: {self._maria.port}
database: {self.name}
user: reader
tls: {{mode: disable}}"""

    def connect(self) -> Any:
        return self._maria.connect(database=self.name, autocommit=False)

    def do(self, *statements: str) -> None:
        with self._db.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)

    def ask(self, statement: str) -> list[Any]:
        with self._db.cursor() as cursor:
            cursor.execute(statement)
            return list(cursor.fetchall())

    def transaction(self, statements: Sequence[tuple[str, Sequence[Any]]]) -> None:
        self.do("begin")
        with self._db.cursor() as cursor:
            for statement, values in statements:
                cursor.execute(statement, values)
        self.do("commit")

    def time(self, at: datetime) -> Any:
        return at.replace(tzinfo=None)

    def cut(self) -> None:
        for (number,) in self.ask("select id from information_schema.processlist where user = 'reader'"):
            with suppress(pymysql.err.OperationalError):  # it went by itself
                self.do(f"kill {number}")

    def refuse(self, refused: bool) -> None:
        self.do(f"revoke select on {self.name}.* from reader" if refused else f"grant select on {self.name}.* to reader")

    def close(self) -> None:
        self.do(f"drop database {self.name}")
        self._db.close()


DATABASES: dict[str, Callable[[Any, Path, str], Database]] = {"sqlite": InSqlite, "postgres": InPostgres, "mariadb": InMaria}
