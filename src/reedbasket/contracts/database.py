"""What all databases have in common, as sources."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from typing import Any, Protocol

import pytest

from ..core.errors import ReedError, SourceError
from ..core.sources.sql import Statement, Table
from ..core.sources.sql.database import Database

ROWS = [(n, f"name {n}" if n % 7 else None, n / 4) for n in range(1, 5_001)]


class DatabaseFixture(Protocol):
    """A database with a table `things` (id integer, the key; name text; weight double) that holds `ROWS`.

    Attributes:
        snapshots: what is written after it was opened is not seen.
    """

    snapshots: bool

    def open(self, stop: threading.Event) -> Database:
        """The database, as a run opens it.

        Args:
            stop: ends reads in progress.
        """

    def do(self, sql: str) -> None:
        """Execute and commit a statement on another connection."""

    def cut(self) -> bool:
        """Have the server close every connection but the fixture's own; False if there are none that could be closed."""


class DatabaseContract:
    """The tests need a fixture `yard`, made anew for each."""

    @pytest.fixture
    def database(self, yard: DatabaseFixture) -> Iterator[Database]:
        with closing(yard.open(threading.Event())) as opened:
            yield opened

    def test_the_catalog_tells_names_types_and_the_key(self, database: Database) -> None:
        table = _things(database)
        assert (table.what, table.key, table.readable) == ("table", ("id",), True)
        assert [(column.name, column.kind) for column in table.columns] == [
            ("id", "int64"),
            ("name", "text"),
            ("weight", "double"),
        ]

    def test_every_row_is_read_once_in_columns_of_ours(self, database: Database) -> None:
        assert sorted(_read(database)) == ROWS

    def test_values_are_bound_not_pasted(self, database: Database) -> None:
        found = _read(database, f"where {database.quote('name')} = :name or {database.quote('id')} <= :most",
                      {"name": "'; drop table things; --", "most": 3})  # fmt: skip
        assert sorted(found) == ROWS[:3]
        assert len(_read(database)) == len(ROWS)

    def test_what_comes_later_is_not_in_the_snapshot(self, yard: DatabaseFixture, database: Database) -> None:
        before = len(_read(database))
        yard.do("insert into things values (999999, 'late', 0)")
        seen = len(_read(database))
        assert seen == before or not yard.snapshots
        with closing(yard.open(threading.Event())) as again:
            assert len(_read(again)) == len(ROWS) + 1

    def test_a_query_is_described_and_a_wrong_one_is_told(self, database: Database) -> None:
        made = database.describe("select id, name as called from things", {})
        assert [column.name for column in made.columns] == ["id", "called"]
        with pytest.raises(SourceError) as wrong:
            database.describe("select nothing_of_ours from things", {})
        assert "nothing_of_ours" in wrong.value.found

    def test_reading_ends_where_the_run_does(self, yard: DatabaseFixture) -> None:
        stop = threading.Event()
        with closing(yard.open(stop)) as database:
            table = _things(database)
            name = _statement(database, table).table
            every = f"select a.id as {database.quote('id')} from {name} a cross join {name} b cross join {name} c"
            parts = database.read(Statement(every, table.columns[:1]))
            assert len(next(parts))
            stop.set()
            with pytest.raises(ReedError):
                for _ in range(1_000):
                    next(parts)

    @pytest.mark.parametrize("asked", ["tables", "describe", "read", "hold", "bound", "version"])
    def test_a_server_that_hangs_up_is_told_whatever_it_is_asked(self, yard: DatabaseFixture, asked: str) -> None:
        with closing(yard.open(threading.Event())) as database:
            table = _things(database)
            statement = _statement(database, table)
            name, column = statement.table, table.columns[0]
            if not yard.cut():
                return
            questions: dict[str, Callable[[], Any]] = {
                "tables": database.tables,
                "describe": lambda: database.describe("select id from things", {}),
                "read": lambda: list(database.read(statement)),
                "hold": lambda: database.hold(name),
                "bound": lambda: database.bound(name, column, 1),
                "version": database.row_version,
            }
            with suppress(ReedError):  # any other error is a defect; some need not ask
                questions[asked]()

    def test_names_are_quoted_whatever_they_hold(self, yard: DatabaseFixture) -> None:
        yard.do("create view odd as select id as id from things")
        with closing(yard.open(threading.Event())) as database:
            for name in ('quo"te', "back`tick", "select", "Gro\u00dfe Kiste"):
                query = f"select id as {database.quote(name)} from odd"
                assert [column.name for column in database.describe(query, {}).columns] == [name]


def _things(database: Database) -> Table:
    return next(table for table in database.tables() if table.name == "things")


def _statement(database: Database, table: Table, more: str = "", values: dict[str, Any] | None = None) -> Statement:
    columns = [f"{c.select.replace('{}', database.quote(c.name))} as {database.quote(c.name)}" for c in table.columns]
    name = ".".join(database.quote(part) for part in (table.schema, table.name) if part)
    return Statement(f"select {', '.join(columns)} from {name} {more}", table.columns, values or {}, name)


def _read(database: Database, more: str = "", values: dict[str, Any] | None = None) -> Sequence[tuple[Any, ...]]:
    parts = database.read(_statement(database, _things(database), more, values))
    return [tuple(row.values()) for part in parts for row in part.to_pylist()]
