"""A writer changes rows while feeds follow by log, by row version and by cursor, each into two warehouses, and workers are
killed: then all agree."""

from __future__ import annotations

import random
import re
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pymysql
import pytest

from reedbasket.core.errors import SourceBusy
from reedbasket.core.runs import RunOutcome, verify_feed
from tests.core.test_mysql import MARSH
from tests.faults.test_kill import killed
from tests.support.dock import Dock
from tests.support.feeds import order_for, run_context_for, run_once, table_rows
from tests.support.maria import LOG, Maria
from tests.support.warehouses import Cluster

SECONDS = 12.0
THIRD = "\n---\nwarehouse: third\ntype: sqlite\npath: third.db\n"
WAYS = {
    "cdc": "{by: cdc}",
    "row_version": "{by: row_version}",
    # The longest of the writer's transactions last two seconds: what is committed late lies within the overlap.
    "cursor": "{by: cursor, column: updated_at, overlap: 10s}",
}


@pytest.fixture(scope="module")
def cluster() -> Iterator[Cluster]:
    made = Cluster(["wal_level=logical"])
    yield made
    made.stop()


def statements(rng: random.Random, table: str) -> Iterator[str]:
    """Some inserts, updates and deletes; large values that change and that stay, and now and then a key that changes."""
    for _ in range(rng.randint(1, 30)):
        key, what = rng.randint(1, 3000), rng.random()
        now = "updated_at = clock_timestamp()"
        if what < 0.35:
            body = f"repeat(md5('{rng.random()}'), {rng.choice([1, 200])})"
            yield f"""insert into {table} values ({key}, 1, {body}, clock_timestamp())
                      on conflict (id) do update set v = excluded.v, body = excluded.body, {now}"""
        elif what < 0.75:
            yield f"update {table} set v = v + 1, {now} where id between {key} and {key + 5}"
        elif what < 0.9:
            yield f"delete from {table} where id = {key}"
        elif what < 0.95:
            yield f"update {table} set id = {key + 10_000 + rng.randint(0, 10**6)}, {now} where id = {key}"
        else:
            yield f"update {table} set v = 0, {now} where id % 50 = {key % 50}"


def write(connection: Any, table: str, seed: int, stop: threading.Event, pause: float) -> None:
    rng = random.Random(seed)
    on_maria = isinstance(connection, pymysql.Connection)
    while not stop.is_set():
        try:
            for statement in statements(rng, table):
                connection.query(_of_maria(statement)) if on_maria else connection.execute(statement)
            time.sleep(rng.uniform(0, pause))
            connection.rollback() if rng.random() < 0.1 else connection.commit()
        except (psycopg.errors.DeadlockDetected, psycopg.errors.UniqueViolation, pymysql.Error):
            connection.rollback()
    connection.commit()
    connection.close()


def _of_maria(statement: str) -> str:
    changed = "on duplicate key update v = values(v), body = values(body), updated_at = now(6)"
    return re.sub(r"on conflict.*", changed, statement, flags=re.S).replace("clock_timestamp()", "now(6)")


def test_changes_and_kills(cluster: Cluster, tmp_path: Path) -> None:
    dock = Dock(cluster)
    dock.do("create table orders (id bigint primary key, v int, body text, updated_at timestamptz)")
    dock.do("alter table orders alter body set storage external; create index on orders (updated_at)")
    dock.do("create publication reed_test for table orders")
    dock.do("insert into orders select g, 0, repeat(md5(g::text), 150), now() from generate_series(1, 3000) g")
    texts = {
        way: dock.basket(f"rows_per_commit: 500\ntables: [{{table: orders, changes: {said}}}]") for way, said in WAYS.items()
    }
    writers = [(cluster.connect(autocommit=False), f"{dock.schema}.orders", pause) for pause in (0.02, 0.1, 2.0)]
    require_agreement(texts, writers, tmp_path, SECONDS)


def test_the_same_on_mariadb(tmp_path: Path) -> None:
    maria = Maria(LOG)
    try:
        maria.do("create database yard")
        maria.do(
            "create table orders (id bigint primary key, v int, body longtext, updated_at datetime(6), key (updated_at))",
            "yard",
        )
        maria.do("insert into orders select seq, 0, repeat(md5(seq), 150), now(6) from seq_1_to_3000", "yard")
        place = f"host: 127.0.0.1\nport: {maria.port}\ndatabase: yard\nuser: root\ntls: {{mode: disable}}\n"
        texts = {
            way: f"source: test\ntype: mysql\n{place}---\n{MARSH}rows_per_commit: 500\ntables: [{{table: orders, changes: {said}}}]"
            for way, said in WAYS.items()
            if way != "row_version"
        }
        writers = [(maria.connect(database="yard", autocommit=False), "orders", pause) for pause in (0.02, 0.1, 2.0)]
        require_agreement(texts, writers, tmp_path, SECONDS / 2)
    finally:
        maria.stop()


def require_agreement(texts: dict[str, str], writing: list[tuple[Any, str, float]], tmp_path: Path, seconds: float) -> None:
    """Feeds, each in a folder of its own, follow while the writers write; workers are killed; then source and warehouse agree."""
    rng = random.Random(7)
    texts = {way: text.replace("into: marsh", "into: [marsh, third]") + THIRD for way, text in texts.items()}
    for way in texts:
        (tmp_path / way).mkdir()
    stop = threading.Event()
    writers = [
        threading.Thread(target=write, args=(connection, table, seed, stop, pause))
        for seed, (connection, table, pause) in enumerate(writing)
    ]
    for writer in writers:
        writer.start()
    began, run, cut = time.monotonic(), 0, 0
    while time.monotonic() - began < seconds:
        for way, text in texts.items():
            run += 1
            cut += killed(text, tmp_path / way, run, rng.choice([0.3, 0.6, 1.0, 1.5, 30]))
    stop.set()
    for writer in writers:
        writer.join()
    assert cut > 3, (run, cut)
    for way, text in texts.items():
        for attempt in range(3):
            result, _ = run_once(text, tmp_path / way, run=1000 + attempt)
            if result.error is None or result.error["code"] != SourceBusy.code:
                break
        assert result.outcome is RunOutcome.SUCCEEDED, (way, result.error)
        order = order_for(text)
        for one in (order, *order.others):
            (found,) = verify_feed(one, run_context_for(one, tmp_path / way), deep=True, only=None)
            assert found.error is None and found.only_source == 0 and found.differing == 0, (way, found)
            # Deletes are seen by the log alone; the others hold what once was there.
            assert found.only_warehouse == 0 or way != "cdc", (way, found)
    assert len(table_rows(tmp_path / "cdc", "orders")) > 500
