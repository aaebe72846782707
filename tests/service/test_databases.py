"""Databases through the service: surveyed, previewed at, set up and run by command line, with the demo's own dock."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
from contextlib import closing
from typing import Any

from reedbasket.demo.dock import happenings, make_dock
from tests.conftest import RunningService
from tests.support.dock import Dock
from tests.support.warehouses import Cluster

BASKET = """source: dock
type: sqlite
path: dock.db
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: dock
from: dock
into: marsh
tables:
  - {table: work_orders, changes: {by: cursor, column: updated_at, overlap: 5m}}
  - {table: parts, changes: {by: compare}}
  - {table: "*", exclude: [open_orders], write: mirror}
---
source: far
type: postgres
host: 127.0.0.1
port: 1
database: dock
user: reed
password: {secret: far_password}
---
feed: far
from: far
into: marsh
table_prefix: far_
tables: [orders, "yard.*"]
"""


def reed(service: RunningService, *arguments: str, code: int = 0) -> str:
    """What it prints; where it fails, what it says of that."""
    command = [sys.executable, "-m", "reedbasket.cli.main", *arguments]
    done = subprocess.run(command, capture_output=True, text=True, env=service.environment())
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_the_dock_from_a_survey_to_what_changed(service: RunningService) -> None:
    path = service.files / "dock.db"
    make_dock(path)
    client = service.client
    client.definitions.apply({"basket.yaml": BASKET})
    survey = reed(service, "survey", "dock")
    assert re.search(r"work_orders +table +4,000 +8 +order_id +updated_at +cursor, compare, full", survey)
    assert re.search(r"updated_at +datetime +timestamp +never +cursor +first column", reed(service, "survey", "dock", "work_*"))
    assert "P-00001" in reed(service, "preview", "dock", "parts", "--rows", "1")
    assert 'did you mean "parts"' in reed(service, "preview", "dock", "part", code=5)
    assert re.search(r"catalog +ok", reed(service, "check", "dock"))

    run = client.feeds.run("dock", wait_seconds=30)
    assert (run["outcome"], run["totals"]["read"]) == ("succeeded", 6106)
    assert [table["table"] for table in run["tables"]] == ["work_orders", "parts", "crew_shifts", "fuel_tanks"]
    for thing in ("work_order_done", "part_repriced", "shift_cancelled", "work_order_deleted"):
        happenings(path)[thing]()
    run = client.feeds.run("dock", wait_seconds=30)
    lines = {line["source_table"]: line for line in client.feeds.ledger("dock") if line["run"] == run["id"]}
    changed = {t: (line["inserted"], line["updated"], line["removed"]) for t, line in lines.items()}
    assert (changed["work_orders"], changed["parts"], changed["crew_shifts"]) == ((0, 1, 0), (0, 1, 0), (0, 0, 1))
    with closing(sqlite3.connect(service.warehouses / "marsh.db")) as marsh:
        assert marsh.execute("select count(*) from crew_shifts").fetchone() == (899,)
        # A cursor never sees a delete, and the survey says so before.
        assert marsh.execute("select count(*) from work_orders").fetchone() == (4000,)
    (statement, *_) = client.runs.requests(run["id"])
    assert (statement["method"], statement["status"]) == ("SQL", None) and ":cursor_from" in statement["url"]
    compared = {table["source_table"]: table for table in client.feeds.verify("dock", deep=True)}
    assert (compared["parts"]["same"], compared["work_orders"]["only_warehouse"]) == (True, 1)


def test_a_database_out_of_reach_still_says_what_its_administrator_has_to_run(service: RunningService) -> None:
    service.client.secrets.set("far_password", "quite a secret")
    service.client.definitions.apply({"basket.yaml": BASKET})
    printed = reed(service, "setup-sql", "far")
    assert 'GRANT SELECT ON "public"."orders" TO "reed";' in printed and 'GRANT USAGE ON SCHEMA "yard" TO "reed";' in printed
    assert "quite a secret" not in printed
    assert "port" in reed(service, "check", "far", code=1)
    run = service.client.feeds.run("far", wait_seconds=30)
    assert run["outcome"] == "failed" and run["error"] and run["error"]["code"] == "source.unreachable"


def test_what_was_rejected_out_of_a_log_and_then_deleted_is_not_replayed(service: RunningService) -> None:
    def rejects() -> list[dict[str, Any]]:
        return [json.loads(reject["record"]) for reject in service.client.feeds.rejects("test")]

    cluster = Cluster(["wal_level=logical"])
    try:
        dock = Dock(cluster)
        dock.do("create table parts (id int primary key, at timestamptz); create publication reed_test for table parts")
        service.client.definitions.apply({"b.yaml": dock.basket("changes: {by: cdc}\ntables: [parts]\n")})
        dock.do("insert into parts values (0, now())")
        service.client.feeds.run("test", wait_seconds=50)
        bad = "insert into parts select n, 'infinity' from generate_series(1, 4) as n"
        for way in ("delete from parts where id = 1", "truncate parts"):
            dock.do(bad)
            dock.do("insert into parts select n, now() from generate_series(11, 20) as n")
            dock.do("delete from parts where id in (3, 4)")  # before anybody read it
            dock.do("insert into parts values (4, 'infinity')")  # and once more
            assert service.client.feeds.run("test", wait_seconds=50)["outcome"] == "succeeded"
            assert {rejected["id"] for rejected in rejects()} == {1, 2, 4}
            dock.do(way)
            run = service.client.feeds.run("test", wait_seconds=50)
            assert "rejects.dropped" in [line["code"] for line in service.client.runs.log(run["id"])]
            assert {rejected["id"] for rejected in rejects()} == ({2, 4} if way.startswith("delete") else set())
            dock.do("delete from parts")
            service.client.feeds.run("test", wait_seconds=50)
            assert rejects() == []
    finally:
        cluster.stop()


def test_how_far_a_log_is_ahead_stands_with_its_source(service: RunningService) -> None:
    cluster = Cluster(["wal_level=logical"])
    try:
        dock = Dock(cluster)
        dock.do("create table parts (id int primary key, v text); create publication reed_test for table parts")
        service.client.definitions.apply({"b.yaml": dock.basket("changes: {by: cdc}\ntables: [parts]\n")})
        assert service.client.feeds.run("test", wait_seconds=50)["outcome"] == "succeeded"
        assert service.client.sources.get("test")["lags"] == []
        for n in range(3):
            dock.do("insert into parts values (%s, 'a')", n)
        assert service.client.feeds.run("test", wait_seconds=50)["totals"]["read"] == 3
        (lag,) = service.client.sources.get("test")["lags"]
        assert (lag["feed"], lag["transactions"]) == ("test", 3)
        assert lag["size"] > 0 and lag["seconds"] is not None and 0 <= lag["seconds"] < 60
        assert "3 transactions" in reed(service, "sources")
        service.client.feeds.run("test", wait_seconds=50)
        assert service.client.sources.get("test")["lags"][0]["transactions"] == 0
    finally:
        cluster.stop()
