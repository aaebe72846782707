"""Schedules as the service keeps them: windows once each, backfills, retries, limits, pauses, parameters, stopping."""

from __future__ import annotations

import os
import signal
import sqlite3
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.support.source import Answer, Request, serving

API = """
connector: readings-api
type: http
settings: {{url: {{type: url}}, place: {{type: text, default: everywhere}}, token: {{type: secret}}}}
base_url: "{{settings.url}}"
retry: {{attempts: 1, cooldown_after_failures: 1000}}
tables:
  - table: readings
    get: /readings
    query_params: {{from: "{{window.from}}", until: "{{window.until}}", place: "{{settings.place}}"}}
    records: items
    window: {{from: 2026-11-20, length: 1d}}
---
source: readings
connector: readings-api
settings: {{url: "{url}", token: {{secret: t}}}}
{source}
---
warehouse: marsh
type: sqlite
path: marsh.db
"""
FEED = """---
feed: {name}
from: readings
into: marsh
table_prefix: "{prefix}"
tables: [{{table: readings, write: append}}]
{more}
"""


def basket(url: str, *feeds: tuple[str, str], source: str = "") -> dict[str, str]:
    texts = [FEED.format(name=name, prefix=name.replace("-", "_") + "_", more=more) for name, more in feeds]
    return {"b.yaml": API.format(url=url, source=source) + "".join(texts)}


def hourly(request: Request) -> Answer:
    """One record for each hour of the window that is asked for."""
    begin, end = (datetime.fromisoformat(request.query[n]) for n in ("from", "until"))
    hours = int((end - begin).total_seconds() // 3600)
    place = request.query["place"]
    return Answer({"items": [{"at": request.query["from"], "hour": n, "place": place} for n in range(hours)]})


def days_ago(number: int) -> str:
    """A day, as a definition says it: windows are counted from it, so that a test has as many each day."""
    return (datetime.now(UTC) - timedelta(days=number)).date().isoformat()


def wait_for(condition: Callable[[], Any], seconds: float = 30) -> Any:
    ends = time.monotonic() + seconds
    while not (found := condition()):
        assert time.monotonic() < ends, "it did not happen"
        time.sleep(0.05)
    return found


def rows(service: RunningService, statement: str) -> list[tuple[Any, ...]]:
    db = sqlite3.connect(service.warehouses / "marsh.db")
    try:
        return db.execute(statement).fetchall()
    finally:
        db.close()


def counts(service: RunningService, feed: str) -> dict[str, int]:
    return service.client.feeds.get(feed)["schedule"]["windows"]


def prepare(service: RunningService, files: dict[str, str]) -> None:
    service.client.secrets.set("t", "not-shown")
    service.client.definitions.apply(files)


def test_windows_are_taken_once_each_though_workers_are_killed(service: RunningService) -> None:
    days = ("days", f"schedule: {{windows: {{from: {days_ago(60)}, length: 1d}}, missed: all}}")
    weeks = ("weeks", "schedule: {after: days, windows_per_run: 7}")

    def slowly(request: Request) -> Answer:
        time.sleep(0.1)
        return hourly(request)

    with serving(slowly) as source:
        prepare(service, basket(source.url, days, weeks))
        for _ in range(4):
            time.sleep(0.4)
            for worker in service.workers()[:1]:
                os.kill(worker, signal.SIGKILL)
        service.stop(signal.SIGKILL)
        again = RunningService(service.folder)
        try:
            total = 60
            wait_for(lambda: counts(again, "days").get("done") == total, 90)
            wait_for(lambda: counts(again, "weeks").get("done") == total // 7, 30)
            assert rows(again, "select count(*), count(distinct at || ' ' || hour) from days_readings") == [(24 * total,) * 2]
            assert rows(again, "select count(*), count(distinct at || ' ' || hour) from weeks_readings") == [
                (168 * (total // 7),) * 2
            ]
            assert all(line["reconciles"] for line in again.client.feeds.ledger("days", limit=1000))
            first = again.client.feeds.windows("weeks", limit=1000)[-1]
            assert (first["begins"], first["ends"]) == (f"{days_ago(60)}T00:00:00Z", f"{days_ago(53)}T00:00:00Z")
        finally:
            again.stop()


def test_a_backfill_can_be_paused_and_goes_on(service: RunningService) -> None:
    asked: list[str] = []

    def slowly(request: Request) -> Answer:
        asked.append(request.query["from"])
        time.sleep(0.1)
        return hourly(request)

    with serving(slowly) as source:
        prepare(service, basket(source.url, ("plain", "")))
        made = service.client.feeds.backfill("plain", "2026-01-01", "2026-01-31", "1d")
        assert made["windows"] == 30
        wait_for(lambda: len(asked) > 3)
        paused = service.client.backfills.pause(made["id"])
        assert paused["state"] == "paused"
        time.sleep(0.4)
        held = len(asked)
        time.sleep(0.5)
        assert len(asked) == held < 30
        service.client.backfills.resume(made["id"])
        done = wait_for(lambda: [b for b in service.client.backfills.list("plain") if b["state"] == "done"])[0]
    assert done["counts"] == {"done": 30}
    assert rows(service, "select count(*) from plain_readings") == [(30 * 24,)]
    assert rows(service, "select value from _rb_cursor") == [(None,)]
    with pytest.raises(ServiceProblem) as refused:
        service.client.backfills.pause(made["id"])
    assert refused.value.code == "backfill.ended"
    with pytest.raises(ServiceProblem, match="ends before it begins"):
        service.client.feeds.backfill("plain", "2026-02-01", "2026-01-01", "1d")


def test_a_run_that_failed_is_tried_again_and_its_window_can_be_run_later(service: RunningService) -> None:
    first, twice, bad, after = (days_ago(number) for number in (30, 29, 28, 26))
    failing = {f"{twice}T00:00:00Z": 2, f"{bad}T00:00:00Z": 99}

    def answer(request: Request) -> Answer:
        left = failing.get(request.query["from"], 0)
        failing[request.query["from"]] = left - 1
        return hourly(request) if left <= 0 else Answer({"sorry": "no"}, 503)

    schedule = (
        f"schedule: {{windows: {{from: {first}, length: 1d, delay: 0s}}}}\nretry_runs: {{attempts: 2, first_wait: 200ms}}"
    )
    with serving(answer) as source:
        prepare(service, basket(source.url, ("days", schedule)))
        wait_for(lambda: counts(service, "days").get("failed") == 1 and not counts(service, "days").get("waiting"), 60)
        attempts = [
            r["attempt"] for r in service.client.runs.list(feed="days", limit=500) if r["window"] and bad in r["window"][0]
        ]
        assert attempts == [3, 2, 1]
        assert "run.retried" in [line["code"] for line in service.client.runs.log(3)]
        failing.clear()
        assert service.client.feeds.retry_windows("days", first, after)["count"] == 1
        wait_for(lambda: set(counts(service, "days")) == {"done"}, 60)
    assert rows(service, f"select count(*) from days_readings where at like '{twice}%' or at like '{bad}%'") == [(48,)]


def test_limits_of_a_source_hold_and_feeds_take_turns(tmp_path: Path) -> None:
    asked: list[tuple[str, threading.Event]] = []
    most: list[int] = [0]
    order: list[str] = []

    def answer(request: Request) -> Answer:
        released = threading.Event()
        asked.append((request.query["place"], released))
        most[0] = max(most[0], len(asked))
        released.wait(60)
        return hourly(request)

    service = RunningService(tmp_path / "data", "--workers", "4")
    names = [f"f{n}" for n in range(4)]
    feeds = [(n, f"variants: [{{place: {n}}}]\nschedule: {{windows: {{from: 2026-11-20, length: 1d}}}}") for n in names]
    try:
        with serving(answer) as source:
            prepare(service, basket(source.url, *feeds, source="max_concurrent_runs: 2"))
            # Nobody is answered before as many ask as may: a worker that begins late has not had its turn yet.
            while len(order) < 12:
                wait_for(lambda: len(asked) >= 2, 60)
                place, released = asked.pop(0)
                order.append(place)
                released.set()
            for _, released in asked:
                released.set()
    finally:
        service.stop()
    assert most[0] == 2
    turns = [order.count(n) for n in names]
    assert max(turns) - min(turns) <= 1, order


def test_paused_feeds_wait_and_parameters_can_be_set_for_a_run(service: RunningService) -> None:
    text = """---
feed: at-{variant.place}
variants: [{place: osier}, {place: tansy}]
from: readings
into: marsh
table_prefix: "{variant.place}_"
tables: [{table: readings, write: append}]
schedule: {windows: {from: 2026-11-20, length: 1d}}
"""
    with serving(hourly) as source:
        prepare(service, basket(source.url))
        service.client.definitions.apply({"p.yaml": text.replace("schedule:", "description: 'x'\n# ")})
        for place in ("osier", "tansy"):
            feed = service.client.feeds.pause(f"at-{place}")
            assert feed["schedule"]["paused"] is not None
        service.client.definitions.apply({"p.yaml": text})
        time.sleep(0.5)
        assert service.client.runs.list() == []
        service.client.feeds.resume("at-tansy")
        wait_for(lambda: counts(service, "at-tansy").get("done", 0) > 3 and set(counts(service, "at-tansy")) == {"done"})
        assert counts(service, "at-osier") == {}
        listed = {one["feed"]: one for one in service.client.feeds.schedules(each=3)}
        assert [window["state"] for window in listed["at-tansy"]["latest"]] == ["done"] * 3
        assert listed["at-osier"]["latest"] == []
        assert listed["at-osier"]["schedule"]["paused"] is not None
        assert rows(service, "select distinct place from tansy_readings") == [("tansy",)]
        run = service.client.feeds.run("at-osier", sets={"place": "heron"}, wait_seconds=30)
        assert (run["outcome"], run["sets"]) == ("succeeded", {"place": "heron"})
        assert rows(service, "select distinct place from osier_readings") == [("heron",)]
        assert rows(
            service, "select value from _rb_cursor where source_table = 'readings' and \"table\" = 'osier_readings'"
        ) == [(None,)]
        for wrong in ({"plaice": "x"}, {"token": "x"}):
            with pytest.raises(ServiceProblem) as refused:
                service.client.feeds.run("at-osier", sets=wrong)
            assert refused.value.code == "run.unknown_setting"


def test_stopping_lets_runs_end_within_the_grace_time(tmp_path: Path) -> None:
    service = RunningService(tmp_path / "data", "--grace-seconds", "10")

    def slowly(request: Request) -> Answer:
        time.sleep(0.05)
        return hourly(request)

    with serving(slowly) as source:
        prepare(service, basket(source.url, ("plain", "")))
        run = service.client.feeds.run("plain")
        wait_for(lambda: service.client.runs.get(run["id"])["outcome"] == "running")
        assert service.stop() == 0
    db = sqlite3.connect(service.folder / "service.db")
    assert db.execute("select outcome from run").fetchall() == [("succeeded",)]
    db.close()


def test_a_worker_that_hangs_or_ends_is_replaced_whatever_else_goes_wrong(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A process that is stopped says nothing, as one that hangs. The bound is a minute, so the clock of the test is the service's own
    figure: that it is noticed at all is what `kill -STOP` shows, in the store."""
    from reedbasket.service import workers as workers_module
    from reedbasket.store import Store

    service.stop()
    store = Store(service.folder)
    monkeypatch.setattr("reedbasket.service.workers.SILENT_SECONDS", 0.5)
    workers = workers_module.Workers(store, 1)
    workers.start()
    try:
        wait_for(lambda: workers.up() == 1)
        hand = workers._pool[0]
        os.kill(hand.pid, signal.SIGSTOP)
        time.sleep(0.7)
        workers.maintain()
        wait_for(lambda: workers.up() == 1 and all(worker is not hand for worker in workers._pool))
        # What it says cannot be followed, because the store is locked for too long: it is heard on, and replaced when it ends; if no
        # process can be made just then, a moment later.
        hand = workers._pool[0]

        def fail(*_: object) -> None:
            raise sqlite3.OperationalError("database is locked")

        with monkeypatch.context() as locked:
            locked.setattr(workers, "dispatch", fail)
            hand.kill()
            wait_for(lambda: workers.up() == 1 and all(worker is not hand for worker in workers._pool))
            locked.setattr(workers_module, "WorkerProcess", fail)
            hand = workers._pool[0]
            hand.kill()
            wait_for(lambda: not workers._pool)
        workers.maintain()
        wait_for(lambda: workers.up() == 1)

        def ended(*_: object) -> None:
            raise EOFError

        # The process to fork from ends while a worker is asked of it.
        with monkeypatch.context() as cut:
            cut.setattr("multiprocessing.context.ForkServerProcess.start", ended)
            workers._pool[0].kill()
            wait_for(lambda: not workers._pool)
        workers.maintain()
        wait_for(lambda: workers.up() == 1)
    finally:
        workers.stop()
        store.close()
