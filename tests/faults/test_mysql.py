"""MariaDB as a warehouse when something is in the way: connections that end, locks, rights, a server that only reads, and odd values."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from reedbasket.contracts.place import Loader, columns_of
from reedbasket.core.errors import ConnectionLost, WarehouseBusy, WarehouseError
from reedbasket.core.runs.inspection.plan import plan_feed
from reedbasket.core.warehouses.mysql import connect
from reedbasket.core.warehouses.mysql.check import RIGHTS
from tests.contracts.killed_mysql import kill_often
from tests.support.feeds import basket_text, order_for, run_context_for
from tests.support.maria import Maria
from tests.support.source import Changing, serving
from tests.support.warehouses import Place


@pytest.fixture(scope="module")
def maria() -> Iterator[Maria]:
    made = Maria()
    yield made
    made.stop()


@pytest.fixture
def place(maria: Maria, tmp_path: Path) -> Place:
    return Place("mysql", tmp_path, maria)


def as_user(place: Place, name: str, rights: str) -> None:
    """Loads go by a user with these rights from now on."""
    assert place.maria is not None
    place.maria.do(f"create or replace user {name};\ngrant {rights} on {place.schema}.* to {name}")
    place.definition = place.definition.model_copy(update={"user": name})


@pytest.mark.slow
def test_commits_killed_at_random(maria: Maria) -> None:
    """`python -m tests.contracts.killed_mysql 500` is the long form."""
    done, wrong = kill_often(maria, 17, 7)
    assert not wrong, "\n".join(wrong)
    assert done.total() == 17


@pytest.mark.parametrize("write", ["upsert", "replace"])
def test_a_connection_that_is_killed_and_a_server_that_restarts(place: Place, write: str) -> None:
    maria = place.maria
    assert maria is not None
    loader = Loader(place, write)
    loader.load([{"id": 1, "v": 1}])

    def kill_connections() -> None:
        for (thread,) in maria.do(f"select id from information_schema.processlist where db = '{place.schema}'"):
            maria.do(f"kill {thread}")

    def restart() -> None:
        maria.kill()
        maria.start()

    for cut in (kill_connections, restart):
        with pytest.raises(ConnectionLost):
            loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2}], hold=cut)
        assert place.ask("select id, v from things") == [(1, 1)]
    loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2}])
    assert place.ask("select id, v from things order by id") == [(1, 2), (2, 2)]


def test_a_lock_that_somebody_holds_is_told(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connect, "LOCK_SECONDS", 1)
    loader = Loader(place)
    loader.load([{"id": 1}])
    assert place.maria is not None
    with closing(place.maria.connect(database=place.schema)) as holder, holder.cursor() as cursor:
        cursor.execute("lock tables things write")
        with pytest.raises(WarehouseBusy) as caught:
            loader.load([{"id": 2}])
        assert caught.value.retryable
    assert loader.load([{"id": 2}])[0].inserted == 1


def test_a_server_that_only_reads(place: Place) -> None:
    as_user(place, "reader", RIGHTS)
    loader = Loader(place)
    loader.load([{"id": 1}])
    assert place.maria is not None
    place.maria.do("set global read_only = 1")
    try:
        with pytest.raises(WarehouseError) as caught:
            loader.load([{"id": 2}])
        assert (caught.value.code, "primary" in caught.value.fix) == ("warehouse.read_only", True)
        with closing(place.open()) as warehouse:
            failed = next(step for step in warehouse.check() if not step.ok)
        assert (failed.step, "replica" in failed.found) == ("rights", True)
    finally:
        place.maria.do("set global read_only = 0")
    assert loader.load([{"id": 2}])[0].inserted == 1


def test_a_load_that_does_not_fit(tmp_path: Path) -> None:
    """The room for temporary tables is bounded; on a disk that is full, this server itself ends, and takes the load with it."""
    maria = Maria(["innodb-temp-data-file-path=ibtmp1:12M:autoextend:max:12M"])
    try:
        place = Place("mysql", tmp_path, maria)
        loader = Loader(place)
        loader.load([{"id": 1, "v": "one"}])
        with pytest.raises(WarehouseError) as caught:
            loader.load([{"id": n, "v": "x" * 1000} for n in range(20_000)], batch=2000)
        assert (caught.value.code, "free some space" in caught.value.fix) == ("warehouse.full", True)
        assert place.ask("select id, v from things") == [(1, "one")]
        assert loader.load([{"id": 2, "v": "two"}])[0].inserted == 1
    finally:
        maria.stop()


def test_check_has_the_grant_that_is_missing(place: Place) -> None:
    as_user(place, "clerk", RIGHTS.replace("CREATE TEMPORARY TABLES, ", ""))
    with closing(place.open()) as warehouse:
        failed = next(step for step in warehouse.check() if not step.ok)
    assert (failed.step, "create temporary tables" in failed.found) == ("rights", True)
    assert place.maria is not None
    place.maria.do(failed.fix.rstrip(";"))
    with closing(place.open()) as warehouse:
        assert [step.step for step in warehouse.check() if not step.ok] == []
    assert Loader(place).load([{"id": 1}])[0].inserted == 1
    assert not [name for name in place.ask("show tables") if "check" in name[0]]


ODD = [
    "",
    " ",
    "a ",
    "A",
    "a",
    "\\",
    "\\N",
    "NULL",
    "null",
    "tab\tline\nreturn\r",
    "quote'\"`",
    "\x00",
    "🚢 ä",
    "%s ?",
    "\\'",
    "\u2028",
]


@pytest.mark.parametrize("bulk", [1, 0])
def test_every_text_comes_back_as_it_was(place: Place, bulk: int) -> None:
    assert place.maria is not None
    place.maria.do(f"set global local_infile = {bulk}")
    try:
        loader = Loader(place, key=["t"])
        records = [{"t": text, "n": number, "j": {"t": [text]}} for number, text in enumerate(ODD)]
        assert loader.load(records, batch=100)[0].inserted == len(ODD)
        assert [row[0] for row in place.ask("select t from things order by n")] == ODD
        assert loader.load(records, batch=4)[0].unchanged == len(ODD)
        with closing(place.open()) as warehouse:
            (step,) = (step for step in warehouse.check() if step.step == "bulk")
        assert ("LOAD DATA" in step.found) == bool(bulk)
    finally:
        place.maria.do("set global local_infile = 1")


DOUBLES = [0.1, 1.0, 0.0, 1e15, 1e16, 1e22, 1.5e300, -2.5e-7, 1e-05, 0.0001, 123456.789, 5e-324, 1.7976931348623157e308, 1 / 3]


def test_numbers_that_become_text_or_json_read_as_everywhere(place: Place) -> None:
    loader = Loader(place)
    first = [{"id": number, "t": value, "j": value} for number, value in enumerate(DOUBLES)]
    loader.load(first)
    loader.load([{"id": 100, "t": "text", "j": {"a": 1}}])
    assert columns_of(place, "things")["j"] == "json"
    held = place.ask("select t, j from things where id < 100 order by id")
    assert [text for text, _ in held] == [repr(value) for value in DOUBLES]
    assert [float(text) for _, text in held] == DOUBLES
    # The same once more, as they came: nothing has changed.
    assert loader.load(first)[0].unchanged == len(DOUBLES)


def test_a_table_that_is_too_wide_is_told_before_anything_is_made(place: Place) -> None:
    far = {"id": 1, "updated_at": "2026-03-01T06:00:00Z", **{f"c{n}": f"text {n}" for n in range(400)}}
    with serving(Changing([far])) as source:
        order = order_for(basket_text(source.url, warehouse=place.as_yaml))
        (planned,) = plan_feed(order, run_context_for(order, place.folder))
    assert planned.error and planned.error["code"] == "warehouse.too_many_columns"
    with pytest.raises(WarehouseError, match="InnoDB allows") as caught:
        Loader(place).load([far])
    assert caught.value.code == "warehouse.too_many_columns"
    assert place.ask("show tables") == []
    # As many as fit are not refused by the server, filled to the last.
    wide: dict[str, Any] = {f"c{n}": "forty characters, all of them in the row" for n in range(180)}
    assert Loader(place).load([{"id": n, **wide} for n in range(3)])[0].inserted == 3


def test_two_feeds_that_are_the_first_at_once(place: Place) -> None:
    loads = [Loader(place, table=f"t{number}") for number in range(4)]
    failed: list[BaseException] = []

    def load(number: int) -> None:
        try:
            loads[number].load([{"id": n} for n in range(50)], feed=f"feed {number}", batch=50)
        except BaseException as error:
            failed.append(error)

    threads = [threading.Thread(target=load, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not failed, failed
    assert place.ask('select count(distinct "load"), count(*) from _rb_ledger') == [(4, 4)]


def test_what_others_put_on_a_table_is_there_after_a_replace(place: Place) -> None:
    loader = Loader(place, "replace")
    loader.load([{"id": 1, "v": 1}])
    place.do("create view seen as select id, v from things")
    place.do("create or replace user analyst")
    place.do(f"grant select on {place.schema}.things to analyst")
    loader.load([{"id": 2, "v": 2}])
    assert place.ask("select id, v from seen") == [(2, 2)]
    assert place.maria is not None
    with closing(place.maria.connect(user="analyst", database=place.schema)) as analyst, analyst.cursor() as cursor:
        cursor.execute("select id from things")
        assert cursor.fetchall() == ((2,),)
