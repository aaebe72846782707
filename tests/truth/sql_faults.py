"""The faults of a database's table, and what is only unusual: the catalogue. Imports nothing of the product."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from tests.truth.databases import COLUMNS, Database

ALL = ("sqlite", "postgres", "mariadb")
SERVERS = ("postgres", "mariadb")


@dataclass(frozen=True)
class SqlFault:
    """One way to be wrong, or only unusual.

    Attributes:
        do: strikes; False where there is nothing to strike.
        undo: all is as it was.
        but: ways of finding changes, or of writing, for which it means something else.
        meanwhile: not before the run but once it reads; `world`: by what happens in the world.
        spoils: the record at the place that was drawn.
        hides: a cursor never comes to it.
        told: the code of the warning that says so where the run may succeed.
        alone: one of these at a time.
        later: not before the first run has ended.
    """

    name: str
    do: Callable[[Database, int], Any] = lambda db, place: None
    undo: Callable[[Database, int], Any] = lambda db, place: None
    on: tuple[str, ...] = ALL
    but: tuple[str, ...] = ()
    harmless: bool = False
    meanwhile: str = ""
    spoils: bool = False
    hides: bool = False
    told: str = ""
    alone: bool = False
    later: bool = False


_INDEX = "things_at on things (updated_at)"


def _do(*statements: str, **by_database: str) -> Callable[[Database, int], Any]:
    def run(db: Database, place: int) -> None:
        own = by_database.get(db.on)
        db.do(*([own] if own is not None else statements))

    return run


def _one(statement: str) -> Callable[[Database, int], Any]:
    """Of the record at the place."""

    def run(db: Database, place: int) -> Any:
        numbers = [n for (n,) in db.ask("select id from things order by id")]
        if not numbers:
            return False
        return db.do(statement.format(id=numbers[place % len(numbers)]))

    return run


def _copied(db: Database, place: int) -> None:
    """The table is made anew, with its columns in another order."""
    kinds = {
        "sqlite": "updated_at datetime, tags json, id integer primary key, name text, n integer, amount real, price text, ok boolean",
        "postgres": """updated_at timestamptz, tags jsonb, id bigint primary key, name text, n bigint, amount double precision,
                       price numeric(24, 4), ok boolean""",
        "mariadb": """updated_at datetime(6), tags json, id bigint primary key, name text, n bigint, amount double, price decimal(24, 4),
                      ok boolean, key (updated_at)""",
    }
    listed = ", ".join(COLUMNS)
    db.do("alter table things rename to older", f"create table things ({kinds[db.on]})")
    db.do(f"insert into things ({listed}) select {listed} from older", "drop table older")
    if db.on == "postgres":
        db.do("grant select on things to reader")
    elif db.on == "sqlite":
        db.do(f"create index {_INDEX}")


_REFILL = (
    "create table rest as select * from things",
    "delete from things",
    "insert into things select * from rest",
    "drop table rest",
)
_FAULTS = [
    # what ends a run
    SqlFault("connections cut", lambda db, place: db.cut(), on=SERVERS, meanwhile="source"),
    SqlFault("no table", _do("alter table things rename to elsewhere"), _do("alter table elsewhere rename to things"),
             told="drift.table_missing", alone=True),
    SqlFault("no right", lambda db, place: db.refuse(True), lambda db, place: db.refuse(False), on=SERVERS),
    SqlFault(
        "no cursor's column",
        _do("alter table things rename column updated_at to changed"),
        _do("alter table things rename column changed to updated_at"),
        but=("full", "compare", "row_version", "cdc"),
        alone=True,
    ),
    SqlFault(
        "no key's column",
        _do("alter table things rename column id to no"),
        _do("alter table things rename column no to id"),
        but=("cdc", "append", "replace"),
        alone=True,
        later=True,
    ),
    # what happens meanwhile
    SqlFault("changes while it is read", meanwhile="world"),
    # values
    SqlFault("NaN", _one("update things set amount = 'NaN' where id = {id}"), on=("postgres",), spoils=True),
    SqlFault("infinity", _one("update things set amount = '-Infinity' where id = {id}"), on=("postgres",), spoils=True),
    SqlFault(
        "a time without end",
        _one("update things set updated_at = 'infinity' where id = {id}"),
        on=("postgres",),
        spoils=True,
        hides=True,
    ),
    SqlFault("a decimal that is none", _one("update things set price = 'NaN' where id = {id}"), on=("postgres",), spoils=True),
    SqlFault("no time", _one("update things set updated_at = null where id = {id}"), spoils=True),
    SqlFault(
        "a time of zeros",
        lambda db, place: (db.do("set sql_mode = ''"), _one("update things set updated_at = '0000-00-00' where id = {id}")(db, place))[1],
        on=("mariadb",),
        spoils=True,
    ),
    SqlFault("text for a number", _one("update things set n = 'many' where id = {id}"), on=("sqlite",), but=("append",), spoils=True),
    # unusual, and right
    SqlFault(
        "a column of nulls",
        _do("alter table things add column extra text"),
        _do("alter table things drop column extra"),
        harmless=True,
        alone=True,
    ),
    SqlFault("rewritten", _do(postgres="vacuum full things", mariadb="optimize table things", sqlite="vacuum"), harmless=True),
    SqlFault("emptied and filled again", _do(*_REFILL), but=("row_version",), harmless=True),
    SqlFault("updates that change nothing", _do("update things set n = n"), harmless=True),
    SqlFault("keys that come and go", _do("update things set id = -id", "update things set id = -id"), but=("row_version",), harmless=True),
    SqlFault("made anew, in another order", _copied, but=("cdc",), harmless=True, alone=True),
    SqlFault(
        "a transaction that is open",
        lambda db, place: db.hold("insert into things (id, name) values (-5, 'not yet')"),
        lambda db, place: db.let_go(),
        on=SERVERS,
        but=("cdc",),
        harmless=True,
        alone=True,
    ),
    SqlFault(
        "a transaction that was undone",
        lambda db, place: (db.hold("insert into things (id, name) values (-5, 'not yet')"), db.let_go()),
        harmless=True,
    ),
    SqlFault("a view beside", _do("create view seen as select id from things"), _do("drop view seen"), harmless=True, alone=True),
    SqlFault("the log begins a new file", _do("flush binary logs"), on=("mariadb",), harmless=True),
    SqlFault("no index", _do(sqlite="drop index things_at"), _do(sqlite=f"create index if not exists {_INDEX}"), on=("sqlite",),
             harmless=True),
]  # fmt: skip
FAULTS = {fault.name: fault for fault in _FAULTS}
assert len(FAULTS) == len(_FAULTS)
