"""The real engines, each behind the same few calls: a fresh place to load into, and an eye of its own to look at it."""

from __future__ import annotations

import json
import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import threading
import time
from collections.abc import Sequence
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.spec.warehouse import Warehouse as Definition
from reedbasket.core.warehouses import Warehouse, open_warehouse
from tests.support.certificates import Authority
from tests.support.maria import Maria
from tests.support.programs import program

ENGINES = ("sqlite", "duckdb", "postgres", "mysql")
# {kind: the fixture of its server}.
SERVERS = {"postgres": "cluster", "mysql": "maria"}
# A kind of tests/contracts/toys; its statements that change tables commit by themselves.
TOY = "dike"
_numbers = count(1)


class Cluster:
    """A private PostgreSQL: own folder, own free port, gone at the end."""

    def __init__(self, settings: Sequence[str] = (), authority: Authority | None = None) -> None:
        """authority: signs a certificate for `localhost`, and the server speaks TLS with it."""
        self._eye: Any = None
        self._looking = threading.Lock()
        self.folder = Path(tempfile.mkdtemp(prefix="reed-pg-"))
        self._bin = Path(program("initdb", "postgresql")).parent
        # initdb refuses to run as root.
        self._user = {"user": "postgres", "group": "postgres"} if os.geteuid() == 0 else {}
        if self._user:
            shutil.chown(self.folder, "postgres", "postgres")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        data = str(self.folder / "data")
        self._do("initdb", "-D", data, "-U", "boss", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
        if authority:
            files = [self.folder / "server.crt", self.folder / "server.key"]
            authority.issue("localhost", *files)
            for file in files if self._user else ():
                shutil.chown(file, "postgres", "postgres")
            settings = [*settings, "ssl=on", f"ssl_cert_file={files[0]}", f"ssl_key_file={files[1]}"]
        quick = ["fsync=off", "max_wal_size=4GB", *settings]
        options = f"-p {self.port} -k {self.folder} -c listen_addresses=127.0.0.1 " + " ".join(f"-c {s}" for s in quick)
        self._do("pg_ctl", "-D", data, "-l", str(self.folder / "log"), "-o", options, "-w", "start")

    def _do(self, program: str, *arguments: str) -> None:
        subprocess.run(
            [str(self._bin / program), *arguments], check=True, stdout=subprocess.DEVNULL, cwd=self.folder, **self._user
        )

    def connect(self, **more: Any) -> Any:
        import psycopg

        return psycopg.connect(
            host="127.0.0.1", port=self.port, **{"user": "boss", "dbname": "postgres", "autocommit": True, **more}
        )

    def look(self, sql: str, schema: str) -> list[tuple[Any, ...]]:
        """By a connection of its own that stays open: most of what tests wait for would be connecting."""
        if self._eye is None or self._eye.closed:
            self._eye = self.connect()
        with self._looking:
            self._eye.execute(f"set search_path = {schema}; set timezone = 'UTC'")
            rows: list[tuple[Any, ...]] = self._eye.execute(sql).fetchall()
            return rows

    def restart(self) -> None:
        """Whoever is connected is cut off."""
        self._do("pg_ctl", "-D", str(self.folder / "data"), "-m", "fast", "-w", "restart")

    def stop(self) -> None:
        if self._eye is not None:
            self._eye.close()
        self._do("pg_ctl", "-D", str(self.folder / "data"), "-m", "immediate", "stop")
        shutil.rmtree(self.folder, ignore_errors=True)


def server_for(engine: str, request: pytest.FixtureRequest) -> Cluster | Maria | None:
    """The server of a kind that has one."""
    found: Cluster | Maria | None = request.getfixturevalue(SERVERS[engine]) if engine in SERVERS else None
    return found


class Place:
    """One empty warehouse. `ask` and `do` look and reach in from outside, past the code under test."""

    def __init__(self, engine: str, folder: Path, cluster: Cluster | Maria | None) -> None:
        """cluster: the server of a kind that has one."""
        self.engine, self.folder = engine, folder
        self.cluster = cluster if isinstance(cluster, Cluster) else None
        self.maria = cluster if isinstance(cluster, Maria) else None
        self.readers_wait, self.ddl_commits = engine == "duckdb", engine in (TOY, "mysql")
        self.most_columns = 1_000 if engine == "mysql" else 1_600
        made: dict[str, Any] = {"warehouse": "marsh", "type": engine}
        if engine == "postgres":
            assert cluster is not None
            self.schema = f"marsh_{next(_numbers)}_{os.getpid()}"
            self.do(f"create schema {self.schema}")
            made |= {
                "host": "127.0.0.1", "port": cluster.port, "database": "postgres", "user": "boss", "schema": self.schema,
                "tls": {"mode": "disable"},
            }  # fmt: skip
        elif self.maria is not None:
            self.schema = f"marsh_{next(_numbers)}_{os.getpid()}"
            # Its own words for text, which the loader must not depend on.
            self.maria.do(f"create database {self.schema} character set latin1")
            made |= {
                "host": "127.0.0.1", "port": self.maria.port, "database": self.schema, "user": "root", "tls": {"mode": "disable"},
            }  # fmt: skip
        else:
            made["path"] = f"marsh.{engine}"
        self.definition = Definition.model_validate(made)

    @property
    def as_yaml(self) -> str:
        """Its definition's lines after the name, for a basket."""
        made = self.definition.model_dump(mode="json", by_alias=True, exclude_unset=True, exclude={"warehouse"})
        return json.dumps(made)[1:-1].replace(', "', '\n"')

    def text(self, expression: str) -> str:
        """SQL for a value as text."""
        return f"cast({expression} as {'char' if self.maria else 'text'})"

    def open(self) -> Warehouse:
        return open_warehouse(self.definition, Places.anywhere(self.folder), lambda _: "")

    def ask(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        if self.engine == "postgres":
            assert self.cluster is not None
            return self.cluster.look(sql, self.schema)
        if self.maria is not None:
            return self.maria.look(sql, self.schema)
        if self.engine == "duckdb":
            import duckdb

            with duckdb.connect(str(self.folder / "marsh.duckdb"), read_only=True) as connection:
                connection.execute("set TimeZone = 'UTC'")
                table = connection.sql(sql).to_arrow_table()
                return list(zip(*(column.to_pylist() for column in table.columns)))
        connection = sqlite3.connect(self.folder / f"marsh.{self.engine}")
        try:
            return connection.execute(sql).fetchall()
        finally:
            connection.close()

    def do(self, sql: str) -> None:
        if self.engine == "postgres":
            assert self.cluster is not None
            with self.cluster.connect() as connection:
                if self.schema and not sql.startswith("create schema"):
                    connection.execute(f"set search_path = {self.schema}")
                connection.execute(sql)
        elif self.maria is not None:
            self.maria.look(sql, self.schema)
        elif self.engine == "duckdb":
            import duckdb

            with duckdb.connect(str(self.folder / "marsh.duckdb")) as connection:
                connection.execute(sql)
        else:
            connection = sqlite3.connect(self.folder / f"marsh.{self.engine}", isolation_level=None)
            connection.execute(sql)
            connection.close()


def wait_until(true: Any, seconds: float = 20.0) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it never came true"
        time.sleep(0.02)
