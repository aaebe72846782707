"""MariaDB as a source: read off the wire, and by its log; a real server, into a SQLite warehouse."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator
from datetime import date, datetime
from decimal import Decimal
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome, verify_feed
from reedbasket.core.runs.inspection.database_look import check_database, preview_database, survey_database
from reedbasket.core.runs.inspection.setup_sql import setup_sql
from tests.support.feeds import Heard, order_for, run_context_for, run_once, table_rows
from tests.support.maria import Maria

MARSH = "warehouse: marsh\ntype: sqlite\npath: marsh.db\n---\nfeed: test\nfrom: test\ninto: marsh\n"
_numbers = count(1)
# (declared, as SQL, in the warehouse)
TYPES: list[tuple[str, str, Any]] = [
    ("tinyint", "-3", -3), ("bool", "1", 1),
    ("mediumint unsigned", "16777215", 16777215), ("bigint", "-9007199254740993", -9007199254740993),
    ("bigint unsigned", "18446744073709551615", "18446744073709551615"), ("decimal(8,2)", "-1.25", "-1.25"),
    ("decimal(40,10)", "-123456789012345678901.5", "-123456789012345678901.5"), ("float", "0.1", 0.1), ("double", "1e300", 1e300),
    ("bit(1)", "b'1'", 1), ("bit(20)", "b'101'", 5), ("year", "2026", 2026), ("date", "'2026-03-02'", "2026-03-02"),
    ("date", "'0000-00-00'", None), ("datetime(3)", "'2026-07-02 06:00:00.5'", "2026-07-02 04:00:00.500000Z"),
    ("timestamp(6)", "'2026-03-02 04:00:00.000001'", "2026-03-02 04:00:00.000001Z"), ("time(2)", "'-838:59:58.25'", "-838:59:58.25"),
    ("time", "'26:00:00'", "26:00:00"), ("char(5)", "'ab'", "ab"), ("varchar(300) character set latin1", "'café'", "café"),
    ("longtext", "repeat('ø', 40000)", "ø" * 40000),
    ("varbinary(9)", "0x00ff", b"\x00\xff"), ("longblob", "repeat(0x01, 300)", b"\x01" * 300),
    ("json", """'{"a": [1, 2]}'""", '{"a": [1, 2]}'), ("enum('a', 'bé')", "'bé'", "bé"), ("set('x', 'y', 'z')", "'x,z'", "x,z"),
]  # fmt: skip


class DatabaseFixture:
    """A database of its own on the server."""

    def __init__(self, maria: Maria) -> None:
        self.maria, self.name = maria, f"yard_{next(_numbers)}"
        maria.do(f"create database {self.name} character set utf8mb4")

    def do(self, *statements: str) -> list[tuple[Any, ...]]:
        return self.maria.do(
            ";\n".join(["set names utf8mb4", "set sql_mode = ''", "set time_zone = '+00:00'", *statements]), self.name
        )

    def basket(self, feed: str, source: str = "", user: str = "root") -> str:
        place = (
            f"host: 127.0.0.1\nport: {self.maria.port}\ndatabase: {self.name}\nuser: {user}\ntls: {{mode: disable}}\n{source}"
        )
        return f"source: test\ntype: mysql\n{place}\n---\n{MARSH}{feed}"


@pytest.fixture
def yard(maria: Maria) -> Iterator[DatabaseFixture]:
    made = DatabaseFixture(maria)
    yield made
    maria.do(f"drop database {made.name}")


def run(text: str, folder: Path, number: int, **more: Any) -> Heard:
    result, heard = run_once(text, folder, run=number, **more)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    return heard


def require_same(text: str, folder: Path, rejected: int = 0) -> None:
    """rejected: records that the warehouse cannot have, and that are all that differs."""
    order = order_for(text)
    for table in verify_feed(order, run_context_for(order, folder), deep=True, only=None):
        differ = (table.only_source, table.only_warehouse, table.differing)
        assert (table.same, table.rejected, any(differ)) == (not rejected, rejected, False), (table.samples, table.error)


def test_every_type_from_a_select_and_from_the_log(yard: DatabaseFixture, tmp_path: Path) -> None:
    columns = ", ".join(f"c{n} {kind}" for n, (kind, _, _) in enumerate(TYPES))
    values = ", ".join(value for _, value, _ in TYPES)
    yard.do(f"create table things (id int primary key, {columns}, odd date)", f"insert into things values (1, {values}, null)")
    text = yard.basket("changes: {by: cdc}\ntables: [things]", "time_zone: Europe/Paris")
    run(text, tmp_path, 1)
    yard.do(
        f"insert into things values (2, {values}, null)",
        "insert into things (id) values (3)",
        "insert into things (id, odd) values (4, '2026-00-15')",
    )
    heard = run(text, tmp_path, 2)
    assert [(r.code, r.record["id"]) for r in heard.rejected] == [("value.out_of_range", 4)]
    one, two, three = sorted(table_rows(tmp_path, "things"), key=lambda row: row["id"])
    assert [one[f"c{n}"] for n in range(len(TYPES))] == [wanted for _, _, wanted in TYPES]
    assert {**one, "id": 2} == two and {three[f"c{n}"] for n in range(len(TYPES))} == {None}
    require_same(text, tmp_path, rejected=1)


def test_changes_of_every_sort_by_the_log(yard: DatabaseFixture, tmp_path: Path) -> None:
    yard.do(
        "create table notes (id int primary key, state text, n decimal(9, 2))",
        "create table `odd; table` (a int, `b.x` varchar(9), v int, primary key (a, `b.x`))",
    )
    yard.do(
        "insert into notes select seq, 'open', seq from seq_1_to_50", "insert into `odd; table` values (1, 'x', 1), (2, 'x', 2)"
    )
    text = yard.basket('rows_per_commit: 20\nchanges: {by: cdc}\ntables: [notes, {table: "odd; table", write: versions}]')
    run(text, tmp_path, 1)
    yard.do(
        "update notes set state = 'done' where id <= 30",
        "delete from notes where id = 31",
        "update notes set id = 200 where id = 32",
    )
    yard.do(
        "start transaction",
        "delete from notes where id = 33",
        "rollback",
        "insert into notes values (300, 'new', 1)",
        "delete from notes where id = 300",
    )
    yard.do("update `odd; table` set v = 9 where a = 1", "update `odd; table` set a = 5 where a = 2")
    heard = run(text, tmp_path, 2)
    notes = [line for line in heard.ledger if line.table == "notes"]
    assert sum(line.updated for line in notes) == 30 and sum(line.deleted for line in notes) == 2
    require_same(text, tmp_path)
    yard.do("insert into notes values (400, 'lost', 0)", "truncate table notes", "insert into notes values (1, 'fresh', 1)")
    yard.do(
        "alter table notes add extra varchar(9) first",
        "update notes set extra = 'e'",
        "insert into notes values ('f', 2, 's', 3)",
    )
    heard = run(text, tmp_path, 3)
    assert heard.ledger[0].removed == 47 and "cdc.truncated" in heard.codes()
    assert [(r["id"], r["state"], r["extra"]) for r in table_rows(tmp_path, "notes")] == [(1, "fresh", "e"), (2, "s", "f")]
    assert run(text, tmp_path, 4).ledger == []


def test_a_log_that_was_thrown_away_and_what_it_needs(yard: DatabaseFixture, tmp_path: Path) -> None:
    yard.do(
        "create table notes (id int primary key, v text)",
        "insert into notes values (1, 'a'), (2, 'b')",
        "create table bare (v text)",
    )
    text = yard.basket("changes: {by: cdc}\ntables: [notes]", user="logged")
    order = order_for(text)
    context = run_context_for(order, tmp_path)
    yard.do("create or replace user logged@'%' identified by 'planted-secret-7f3a/+='")
    text = text.replace("user: logged", "user: logged\npassword: {secret: pass}")
    order = order_for(text)
    for statement in (one.sql for one in setup_sql(order, context, [order])):
        if statement.startswith("GRANT"):
            yard.do(statement.rstrip(";"))
    steps = {step.step: step for step in check_database(order, context, [order])}
    assert steps["log"].ok and "1 table of feeds here" in steps["log"].found
    run(text, tmp_path, 1)
    yard.do(
        "delete from notes where id = 1",
        "insert into notes values (3, 'c')",
        "flush binary logs",
        "insert into notes values (4, 'd')",
    )
    (file, *_) = yard.do("show master status")[0]
    for _ in range(50):  # a file goes once no other reader of the log is in it
        yard.do(f"purge binary logs to '{file}'")
        if len(yard.do("show binary logs")) == 1:
            break
        time.sleep(0.1)
    result, _ = run_once(text, tmp_path, run=2)
    assert result.error is not None and result.error["code"] == "source.cdc_position_lost", result.error
    heard = run(text, tmp_path, 3, accept=True)
    assert [(line.inserted, line.unchanged, line.removed) for line in heard.ledger] == [(2, 1, 1)]
    yard.do("revoke replication slave on *.* from logged@'%'", "set global binlog_row_image = 'MINIMAL'")
    try:
        steps = {step.step: step for step in check_database(order, context, [order])}
        assert steps["log"].ok is False and "set global binlog_row_image = 'FULL'" in steps["log"].fix
    finally:
        yard.do("set global binlog_row_image = 'FULL'")
    result, _ = run_once(text, tmp_path, run=4)
    assert result.error is not None and result.error["code"] == "source.permission_denied"
    result, _ = run_once(yard.basket("changes: {by: cdc}\ntables: [bare]"), tmp_path / "else", run=1)
    assert result.error is not None and result.error["code"] == "definition.cdc_needs_key"


def test_cursors_queries_windows_and_a_survey(yard: DatabaseFixture, tmp_path: Path) -> None:
    yard.do(
        "create table orders (id int primary key, region varchar(5), v int, at datetime(6), key (at))",
        "insert into orders select seq, if(seq % 2, 'east', 'west'), 0, "
        "timestamp '2026-03-01 00:00:00' + interval seq minute from seq_1_to_2000",
        "create view seen as select id, v from orders", "create table parts (id int primary key, v float)",
        "insert into parts values (1, 0.1), (2, 0.2)",
    )  # fmt: skip
    feed = """tables:
  - {table: orders, changes: {by: cursor, column: at}}
  - {table: parts, changes: {by: compare}}
  - table: east
    query: "select id, v, at from orders where region = :settings_region and at >= :cursor_from"
    primary_key: id
    changes: {by: cursor, column: at}
  - {table: orders, as: daily, write: append, changes: {by: window, column: at, from: 2026-03-01, length: 1d}}
  - {table: seen, write: replace}
"""
    text = yard.basket(feed, "time_zone: Europe/Paris\nsettings: {region: east}")
    order = order_for(text)
    heard = run(text, tmp_path, 1)
    read = Counter[str]()
    for line in heard.ledger:  # on a busy machine windows are committed on the way
        read[line.table] += line.read
    assert read == {"orders": 2000, "parts": 2, "east": 1000, "daily": 1941, "seen": 2000}
    yard.do(
        "update orders set v = 1, at = '2026-03-05 00:00:00' where id <= 10",
        "delete from parts where id = 2",
        "update parts set v = 0.3",
    )
    heard = run(text, tmp_path, 2)
    lines = {line.table: line for line in heard.ledger}
    assert (lines["orders"].updated, lines["orders"].read, lines["parts"].updated, lines["parts"].removed) == (10, 10, 1, 1)
    assert lines["east"].updated == 5
    context = run_context_for(order, tmp_path)
    found = {table.table: table for table in survey_database(order, context, [], [])}
    assert found["orders"].cursors[0] == "at" and found["seen"].what == "view" and found["orders"].indexed == ["at", "id"]
    assert [method.by for method in found["orders"].methods] == ["cursor", "cdc", "compare", "full"]
    assert preview_database(order, context, "orders", 3).rows[0][:2] == [1, "east"]


def test_one_snapshot_locks_rights_and_a_server_that_goes_away(yard: DatabaseFixture, tmp_path: Path) -> None:
    # Quick as the tests' server is set, it would lose the last second when it is killed.
    yard.do("set global innodb_flush_log_at_trx_commit = 1", "set global sync_binlog = 1")
    yard.do("create table a (id int primary key, v longtext)", "create table b (id int primary key, v int)")
    yard.do("insert into a select seq, repeat('x', 2000) from seq_1_to_20000", "insert into b select seq, 1 from seq_1_to_10")
    text = yard.basket("tables: [a, b]")

    class Writes(Heard):
        def progress(self, progress: Any) -> None:
            if progress.table == "a" and progress.staged and not self.phases:
                self.phases.append(("a", "seen"))
                yard.do("insert into b values (99, 1)", "delete from a where id = 20000")

    heard = run(text, tmp_path, 1, heard=Writes())
    assert [line.read for line in heard.ledger] == [20_000, 10]  # as it was when the run began
    heard = run(text, tmp_path, 2)
    assert [line.read for line in heard.ledger] == [19_999, 11]

    class Kills(Heard):
        def progress(self, progress: Any) -> None:
            if progress.table == "a" and progress.staged and not self.phases:
                self.phases.append(("a", "seen"))
                yard.maria.kill()

    result, _ = run_once(text, tmp_path, run=3, heard=Kills())
    yard.maria.start()
    assert result.error is not None and (result.error["code"], result.error["retryable"]) == ("source.unreachable", True)
    assert len(table_rows(tmp_path, "a")) == 20_000
    assert [line.read for line in run(text, tmp_path, 4).ledger] == [19_999, 11]

    stop = threading.Event()

    class Stops(Heard):
        def progress(self, progress: Any) -> None:
            if progress.staged:
                stop.set()

    result, _ = run_once(text, tmp_path, run=5, heard=Stops(), stop=stop)
    assert result.outcome is RunOutcome.CANCELLED
    locker = yard.maria.connect(database=yard.name)
    with locker.cursor() as cursor:
        cursor.execute("lock tables b write")
    slow = yard.basket("tables: [b]", "statement_timeout: 1s")
    result, _ = run_once(slow, tmp_path, run=6)
    assert result.error is not None and result.error["code"] in ("source.locked", "source.timed_out"), result.error
    locker.close()
    yard.do("create or replace user poor@'%'", f"grant select on {yard.name}.a to poor@'%'")
    result, _ = run_once(
        yard.basket("tables: [{table: q, query: 'select * from b', primary_key: id}]", user="poor"), tmp_path, run=7
    )
    assert result.error is not None and result.error["code"] == "source.permission_denied", result.error


def test_numbers_days_and_times_are_what_the_server_writes(yard: DatabaseFixture, tmp_path: Path) -> None:
    made = {
        "tiny": ("tinyint unsigned", "n % 256"), "small": ("smallint", "n - 2000"), "mid": ("mediumint", "-n * 1000"),
        "whole": ("int unsigned", "n * 858993"), "big": ("bigint", "n * 1000000000001 - 7"),
        "huge": ("bigint unsigned", "cast(n as unsigned) * 3689348814741910"), "part": ("double", "n / 7"),
        "price": ("decimal(12, 3)", "n * 1.125 - 900"), "day": ("date", "'0998-12-20' + interval n * 73 day"),
        "moment": ("datetime", "'1969-12-31 23:59:50' + interval n * 61 second"),
        "fine": ("datetime(6)", "'1999-12-31 23:59:59.5' + interval n * 1234567 microsecond"),
        "at": ("timestamp(3)", "'2024-02-28' + interval n minute"), "lasts": ("time(3)", "sec_to_time(n * 700.25 - 900000)"),
        "words": ("text", "repeat('ø', n % 300)"), "bytes": ("varbinary(40)", "repeat(0xff, n % 40)"),
    }  # fmt: skip
    columns = ", ".join(f"`{name}` {kind}" for name, (kind, _) in made.items())
    every = ", ".join(f"if(n % {place} = 1, null, {value})" for place, (_, value) in enumerate(made.values(), 3))
    yard.do(
        f"create table things (id int primary key, {columns})",
        f"insert into things select n, {every} from (select cast(seq as signed) as n from seq_1_to_5000) as numbers",
        "insert into things (id, words) values (5001, repeat('x', 17000000)), (5002, '')",
        "insert into things (id, day, moment) values (5003, '0000-00-00', '0000-00-00 10:00'), (5004, '2024-02-29', '2023-12-31')",
    )
    yard.do(
        "create table plain (id int primary key, at datetime, n decimal(9, 2))",
        "insert into plain values (1, '2024-01-02', 1.5)",
    )
    run(yard.basket("tables: [things, {table: plain, cast: {at: text, n: text}}]"), tmp_path, 1)
    assert [(row["at"], row["n"]) for row in table_rows(tmp_path, "plain")] == [("2024-01-02 00:00:00", "1.50")]
    theirs = yard.do("select *, cast(lasts as char) as lasts from things order by id")
    ours = sorted(table_rows(tmp_path, "things"), key=lambda row: row["id"])
    assert len(ours) == len(theirs) == 5004
    for mine, (number, *values, lasts) in zip(ours, theirs):
        their = dict(zip(made, values)) | {"lasts": lasts}
        if number == 5003:
            assert (mine["day"], mine["moment"]) == (None, None)
            continue
        assert [as_loaded(their[name]) for name in made] == [
            mine[name] if name not in ("huge", "price") or mine[name] is None else Decimal(mine[name]) for name in made
        ], number


def as_loaded(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat(" ", "microseconds") + "Z"
    return value.isoformat() if isinstance(value, date) else value
