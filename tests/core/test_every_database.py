"""The contract of databases over every kind."""

from __future__ import annotations

import os
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from reedbasket.contracts.database import ROWS, DatabaseContract
from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import SourceError
from reedbasket.core.sources.postgres.database import PostgresSource
from reedbasket.core.sources.sql.database import Database
from reedbasket.core.sources.sql.open import open_database
from reedbasket.core.spec.source import Source
from tests.support.maria import Maria
from tests.support.warehouses import Cluster

_numbers = count(1)
TABLE = "create table things (id bigint not null primary key, name {text}, weight double{precision})"
CUT = """select pg_terminate_backend(pid) from pg_stat_activity
    where datname = current_database() and pid <> pg_backend_pid() and client_port is not null"""
PLACE = {"host": "127.0.0.1", "tls": {"mode": "disable"}}


class Filled:
    """A database of one kind, with the contract's table in it."""

    snapshots = True

    def __init__(self, said: dict[str, Any], do: Callable[[str], Any], others: Callable[[], Any] | None = None) -> None:
        """others: cuts off every connection but this one's."""
        source = Source.model_validate({"source": "yard", **said}).as_database
        assert source is not None
        self._source, self.do, self._others = source, do, others
        do(
            TABLE.format(
                text="varchar(40)" if said["type"] == "mysql" else "text", precision=" precision" * (said["type"] != "mysql")
            )
        )
        values = [f"({n}, {repr(name) if name else 'null'}, {weight})" for n, name, weight in ROWS]
        do(f"insert into things values {', '.join(values)}")

    def cut(self) -> bool:
        if self._others is None:
            return False
        self._others()
        return True

    def open(self, stop: threading.Event) -> Database:
        return open_database(self._source, None, Places.anywhere(Path("/")), stop)


class TestEveryDatabase(DatabaseContract):
    @pytest.fixture(params=["sqlite", "postgres", "mysql"])
    def yard(self, request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Filled]:
        name = f"yard_{next(_numbers)}_{os.getpid()}"
        if request.param == "sqlite":
            with closing(sqlite3.connect(tmp_path / "yard.db", isolation_level=None)) as connection:
                # In the other modes a reader would hold up writers, and so holds no snapshot.
                connection.execute("pragma journal_mode = wal")
                yield Filled({"type": "sqlite", "path": str(tmp_path / "yard.db")}, connection.execute)
        elif request.param == "postgres":
            with yard_of(request.getfixturevalue("cluster"), name) as made:
                yield made
        else:
            maria: Maria = request.getfixturevalue("maria")
            maria.do(f"create database {name};\ncreate user {name};\ngrant all on {name}.* to {name}")
            place = {**PLACE, "port": maria.port, "database": name, "user": name}
            yield Filled({"type": "mysql", **place}, lambda sql: maria.do(sql, name), lambda: maria.do(f"kill user {name}"))
            maria.do(f"drop database {name};\ndrop user {name}")


@contextmanager
def yard_of(cluster: Cluster, name: str) -> Iterator[Filled]:
    """A database of its own: what is cut off there is nobody else's."""
    with cluster.connect() as boss:
        boss.execute(f"create database {name}")
        with cluster.connect(dbname=name) as connection:
            place = {**PLACE, "port": cluster.port, "database": name, "user": "boss"}
            yield Filled({"type": "postgres", **place}, connection.execute, lambda: connection.execute(CUT))
        boss.execute(f"drop database {name} with (force)")


def test_where_the_log_stands_is_asked_of_a_server_that_hangs_up(cluster: Cluster) -> None:
    with yard_of(cluster, f"yard_{next(_numbers)}_{os.getpid()}") as yard, closing(yard.open(threading.Event())) as database:
        assert isinstance(database, PostgresSource)
        yard.cut()
        with pytest.raises(SourceError):
            database.seen()
