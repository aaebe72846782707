"""Several feeds at once: queueing, one warehouse between them, bounds on watchers."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.service.test_service import THINGS, Gate, prepare
from tests.support.feeds import SECRET, basket_text, table_rows
from tests.support.source import Answer, Changing, Request, serving


@pytest.fixture
def small(tmp_path: Path) -> Iterator[RunningService]:
    """One worker, few threads."""
    running = RunningService(tmp_path / "data", "--workers", "1", "--threads", "4")
    yield running
    running.stop()


def second_feed(url: str, **choices: Any) -> str:
    """The feed of the test basket once more, as `second`, beside the first."""
    text = basket_text(url, **choices)
    return text[text.index("feed: test") :].replace("feed: test", "feed: second\ntable_prefix: s_")


def test_a_queued_run_waits_its_turn_and_can_be_cancelled_before_it(small: RunningService) -> None:
    gate = Gate(list(THINGS), free=2)
    with serving(gate) as source:
        prepare(small.client, source.url)
        small.client.definitions.apply({"second.yaml": second_feed(source.url)})
        first = small.client.feeds.run("test")
        assert gate.waiting.wait(20)
        waiting = small.client.feeds.run("second")
        assert small.client.runs.get(waiting["id"])["outcome"] == "queued"
        assert small.client.runs.cancel(waiting["id"])["outcome"] == "cancelled"
        again = small.client.feeds.run("second")
        gate.free = 1000
        gate.open.set()
        for run in (first, again):
            assert small.client.runs.get(run["id"], wait_seconds=30)["outcome"] == "succeeded"
    cancelled = small.client.runs.get(waiting["id"])
    assert (cancelled["outcome"], cancelled["started_at"], cancelled["tables"]) == ("cancelled", None, [])


def test_two_feeds_load_into_one_warehouse_at_the_same_time(service: RunningService) -> None:
    with serving(Changing(list(THINGS), page=5)) as source:
        prepare(service.client, source.url, rows_per_commit=1)
        service.client.definitions.apply({"second.yaml": second_feed(source.url, rows_per_commit=1)})
        asked = [service.client.feeds.run("test"), service.client.feeds.run("second")]
        ended = [service.client.runs.get(run["id"], wait_seconds=50) for run in asked]
    assert [run["outcome"] for run in ended] == ["succeeded", "succeeded"]
    assert table_rows(service.warehouses, "things") == table_rows(service.warehouses, "s_things")
    loads = [line["load"] for feed in ("test", "second") for line in service.client.feeds.ledger(feed)]
    assert len(set(loads)) == len(loads)


def test_watchers_are_bounded_and_everything_else_is_answered(small: RunningService) -> None:
    gate = Gate(list(THINGS), free=1)
    with serving(gate) as source:
        prepare(small.client, source.url)
        run = small.client.feeds.run("test")["id"]
        assert gate.waiting.wait(20)
        seen: list[str] = []
        watching = threading.Semaphore(0)

        def watch() -> None:
            events = small.client.runs.events(run)
            seen.append(next(events)[0])
            watching.release()  # once a watcher, however many events it has been told
            seen.extend(name for name, _ in events)

        watchers = [threading.Thread(target=watch) for _ in range(2)]
        for watcher in watchers:
            watcher.start()
            assert watching.acquire(timeout=20)
        with pytest.raises(ServiceProblem) as refused:
            next(small.client.runs.events(run))
        assert (refused.value.status, refused.value.code) == (503, "service.too_many_streams")
        assert small.client.health()["status"] == "ok"
        gate.free = 1000
        gate.open.set()
        for watcher in watchers:
            watcher.join(30)
    assert seen.count("end") == 2


def test_one_feed_into_two_warehouses_though_its_worker_is_killed(service: RunningService) -> None:
    """Each has all of it once, tells so by its own ledger, and agrees with the source."""
    more = "\n---\nwarehouse: duck\ntype: duckdb\npath: duck.duckdb\n"
    source = Changing(
        [{**THINGS[0], "id": n, "updated_at": f"2026-03-01T{n // 60:02d}:{n % 60:02d}:00Z"} for n in range(400)], page=10
    )

    def slowly(request: Request) -> Answer:
        time.sleep(0.02)
        return source(request)

    with serving(slowly) as server:
        service.client.secrets.set("test_token", SECRET)
        text = basket_text(server.url, write="append", rows_per_commit=40, read=60).replace(
            "into: marsh", "into: [marsh, duck]"
        )
        text = text.replace("total: 5}", "total: 60}")  # requests are counted: on a busy machine none is to be sent once more
        service.client.definitions.apply({"basket.yaml": text + more})
        for seconds in (0.3, 0.6, 0.45):
            run = service.client.feeds.run("test")
            time.sleep(seconds)
            for pid in service.workers():
                os.kill(pid, signal.SIGKILL)
            while service.client.feeds.get("test")["activity"] != "idle":
                time.sleep(0.1)
        run = service.client.feeds.run("test", wait_seconds=50)
        assert run["outcome"] == "succeeded", run["error"]
        assert [(t["warehouse"], t["phase"]) for t in run["tables"]] == [("", "done"), ("duck", "done")]
        for warehouse in ("marsh", "duck"):
            asked = service.client.warehouses.query(warehouse, "select count(*), count(distinct id) from things")
            assert asked["rows"] == [[400, 400]], warehouse
            loaded = [line for line in service.client.feeds.ledger("test", limit=500) if line["warehouse"] == warehouse]
            assert sum(line["inserted"] for line in loaded) == 400 and all(line["reconciles"] for line in loaded)
        assert [(one["table"], one["same"]) for one in service.client.feeds.verify("test", deep=True) if "kids" not in one["table"]] == [
            ("things", True), ("things in duck", True),
        ]  # fmt: skip
        service.client.definitions.apply({"basket.yaml": text.replace("write: append", "write: upsert") + more})
        service.client.feeds.run("test", wait_seconds=50)
        service.client.feeds.rewind("test", "things", to=None)
        before = len(server.requests)
        assert service.client.feeds.run("test", wait_seconds=50)["totals"]["read"] == 400
        assert len(server.requests) - before == 40


def test_a_warehouse_that_is_down_does_not_keep_rows_from_the_other(service: RunningService) -> None:
    more = """
---
warehouse: far
type: postgres
host: 127.0.0.1
port: 1
database: none
user: nobody
password: {secret: nobody_set_it}
"""
    with serving(Changing(list(THINGS), page=5)) as source:
        service.client.secrets.set("test_token", SECRET)
        service.client.definitions.apply(
            {"basket.yaml": basket_text(source.url).replace("into: marsh", "into: [marsh, far]") + more}
        )
        for secret in (None, "a word"):
            if secret:
                service.client.secrets.set("nobody_set_it", secret)
            run = service.client.feeds.run("test", wait_seconds=50)
            assert run["outcome"] == "failed"
            assert [(t["warehouse"], t["phase"]) for t in run["tables"]] == [("", "done"), ("far", "failed")]
    assert len(table_rows(service.warehouses, "things")) == len(THINGS)


GATES = """
source: gates
type: files
path: in
---
warehouse: marsh
type: sqlite
path: marsh.db
---
warehouse: third
type: sqlite
path: third.db
---
feed: gates
from: gates
into: [marsh, third]
tables: [{table: counts, files: "*.csv", primary_key: id, changes: {by: files, stable_for: 0s}}]
"""


def test_files_of_several_warehouses_are_planned_listed_and_taken_again_in_each(service: RunningService) -> None:
    folder = service.files / "in"
    folder.mkdir()
    for number in range(3):
        (folder / f"c{number}.csv").write_text(f"id,gate\n{number},north\n")
    service.client.definitions.apply({"basket.yaml": GATES})
    assert [(t["table"], t["warehouse"], t["exists"]) for t in service.client.feeds.plan("gates")["tables"]] == [
        ("counts", "", False), ("counts", "third", False),
    ]  # fmt: skip
    run = service.client.feeds.run("gates", wait_seconds=50)
    assert [one["url"] for one in service.client.runs.requests(run["id"])] == ["c0.csv", "c1.csv", "c2.csv"]
    files = {(one["warehouse"], one["path"]) for one in service.client.feeds.files("gates")}
    assert files == {(warehouse, f"c{number}.csv") for warehouse in ("marsh", "third") for number in range(3)}
    shown = subprocess.run(
        [sys.executable, "-m", "reedbasket.cli.main", "ledger", "gates"],
        env=service.environment(),
        capture_output=True,
        text=True,
    ).stdout.splitlines()
    assert shown[0].split()[:4] == ["load", "run", "warehouse", "table"]
    assert {tuple(line.split()[2:5]) for line in shown[1:]} == {("marsh", "counts", "3"), ("third", "counts", "3")}
    (service.warehouses / "third.db").unlink()
    assert service.client.feeds.rewind_files("gates", "counts", ["c1*"]) == {"files": 1}
    plans = {t["warehouse"]: (t["requests"], t["sample_records"]) for t in service.client.feeds.plan("gates")["tables"]}
    assert plans == {"": (1, 1), "third": (3, 1)}
    run = service.client.feeds.run("gates", wait_seconds=50)
    assert {one["warehouse"]: one["read"] for one in run["tables"]} == {"": 1, "third": 3}
    for warehouse in ("marsh", "third"):
        assert service.client.warehouses.query(warehouse, "select count(*), sum(id) from counts")["rows"] == [[3, 3]]
