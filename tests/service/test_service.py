"""The service on loopback, through its client and plain HTTP, with real workers."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import urllib3

from reedbasket.client import Client, ServiceProblem, ServiceUnreachable
from tests.conftest import RunningService
from tests.support.feeds import SECRET, basket_text, table_rows
from tests.support.source import Answer, Changing, Request, serving

THINGS = [
    {"id": f"T{i:03d}", "n": i, "at": "x", "updated_at": f"2026-03-01T00:{i // 60:02d}:{i % 60:02d}Z"} for i in range(400)
]


def prepare(client: Client, url: str, **choices: Any) -> None:
    client.secrets.set("test_token", SECRET)
    client.definitions.apply({"basket/test.yaml": basket_text(url, **{"read": 10, **choices})})


def until(holds: Callable[[], Any], what: str, seconds: float = 30) -> Any:
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        found = holds()
        if found:
            return found
        time.sleep(0.02)
    raise AssertionError(f"waited {seconds} s for: {what}")


class Gate(Changing):
    """Lets so many pages through, then holds every request until opened."""

    def __init__(self, records: list[dict[str, Any]], free: int, page: int = 50) -> None:
        super().__init__(records, page=page)
        self.free, self.waiting, self.open = free, threading.Event(), threading.Event()

    def __call__(self, request: Request) -> Answer:
        if self.free <= 0:
            self.waiting.set()
            self.open.wait(20)
        self.free -= 1
        return super().__call__(request)


def test_a_run_from_basket_to_rows(service: RunningService) -> None:
    client = service.client
    records = list(THINGS)
    with serving(Changing(records)) as source:
        prepare(client, source.url)
        plan = client.feeds.plan("test")
        (table,) = plan["tables"]
        assert (table["exists"], table["records"], table["requests"], table["cursor_from"]) == (False, 400, 8, None)
        assert {c["name"]: c["type"] for c in table["new_columns"]} == {
            "id": "text",
            "n": "int64",
            "at": "text",
            "updated_at": "timestamp",
        }
        assert client.warehouses.tables("marsh") == []

        run = client.feeds.run("test", wait_seconds=30)
        assert (run["outcome"], run["totals"]["read"], run["totals"]["inserted"]) == ("succeeded", 400, 400)
        assert client.feeds.run("test", wait_seconds=30)["totals"]["read"] == 0
        records[5] = {**records[5], "n": -1, "updated_at": "2026-03-01T09:00:00Z"}
        records.append({"id": "T900", "n": 900, "at": "y", "updated_at": "2026-03-01T09:00:01Z"})
        third = client.feeds.run("test", wait_seconds=30)
    assert third["totals"]["read"] == 2
    (line, *_) = client.feeds.ledger("test")
    assert (line["run"], line["inserted"], line["updated"], line["reconciles"]) == (third["id"], 1, 1, True)
    assert client.runs.ledger(third["id"]) == [line]
    feed = client.feeds.get("test")
    assert (feed["activity"], feed["last_run"] and feed["last_run"]["id"], feed["rejects"]) == ("idle", third["id"], 0)
    rows = client.warehouses.rows("marsh", "things", limit=2)
    assert (rows["truncated"], {r[0] for r in rows["rows"]}) == (True, {"T005", "T900"})
    joined = client.warehouses.query(
        "marsh", "select count(*), max(l.run) from things t join _rb_ledger l on l.load = t._rb_ledger_line"
    )
    assert joined["rows"] == [[401, third["id"]]]
    log = client.runs.log(third["id"])
    assert [entry["number"] for entry in log] == list(range(1, len(log) + 1))
    (request,) = client.runs.requests(third["id"])
    assert (request["status"], request["method"], request["table"], request["attempt"]) == (200, "GET", "things", 1)
    assert request["url"].startswith(source.url + "/things?since=2026-03-01T00:06:39Z")


def test_watching_a_run_live(service: RunningService) -> None:
    gate = Gate(list(THINGS), free=3)
    with serving(gate) as source:
        prepare(service.client, source.url)
        run = service.client.feeds.run("test")
        events: list[tuple[str, Any]] = []

        def watch() -> None:
            events.extend(service.client.runs.events(run["id"]))

        watcher = threading.Thread(target=watch)
        watcher.start()
        assert gate.waiting.wait(20)
        # Meanwhile the service answers, and says what goes on; a second run of the feed is refused.
        until(lambda: service.client.runs.get(run["id"])["totals"]["requests"] >= 3, "the requests to be told")
        assert service.client.feeds.get("test")["activity"] == "running"
        with pytest.raises(ServiceProblem) as refused:
            service.client.feeds.run("test")
        assert (refused.value.status, refused.value.code) == (409, "run.already_active")
        assert refused.value.details == {"run": run["id"]}
        gate.open.set()
        watcher.join(30)
    assert events[-1] == ("end", {"outcome": "succeeded"})
    states = [data for name, data in events if name == "run"]
    assert states[-1]["totals"]["inserted"] == 400
    reads = [s["totals"]["read"] for s in states]
    assert reads == sorted(reads)
    lines = [line for name, data in events if name == "log" for line in data]
    assert [line["number"] for line in lines] == list(range(1, len(lines) + 1))


def test_cancelling_keeps_what_was_committed(service: RunningService) -> None:
    gate = Gate([{**t, "n": i} for i, t in enumerate(THINGS)], free=41, page=10)
    gate.free = 30
    with serving(gate) as source:
        prepare(service.client, source.url, rows_per_commit=1)
        run = service.client.feeds.run("test")
        assert gate.waiting.wait(20)
        service.client.runs.cancel(run["id"])
        gate.open.set()
        ended = until(
            lambda: (r := service.client.runs.get(run["id"], wait_seconds=5))["outcome"] != "running" and r, "the end"
        )
        assert ended["outcome"] == "cancelled"
        assert ended["error"]["code"] == "run.cancelled"
        with pytest.raises(ServiceProblem, match="nothing to cancel"):
            service.client.runs.cancel(run["id"])
        again = service.client.feeds.run("test", wait_seconds=30)
    assert again["outcome"] == "succeeded"
    assert len(table_rows(service.warehouses, "things")) == 400


def test_a_killed_worker_takes_neither_the_service_nor_a_row_along(service: RunningService) -> None:
    gate = Gate(list(THINGS), free=3)
    with serving(gate) as source:
        prepare(service.client, source.url)
        run = service.client.feeds.run("test")
        assert gate.waiting.wait(20)
        db = sqlite3.connect(service.folder / "service.db")
        (pid,) = db.execute("select worker from run where id = ?", (run["id"],)).fetchone()
        db.close()
        os.kill(pid, signal.SIGKILL)
        until(lambda: service.client.runs.get(run["id"])["outcome"] == "interrupted", "the run to be closed")
        gate.free = 1000
        gate.open.set()
        taken_up = until(
            lambda: next((r for r in service.client.runs.list() if r["resumes"] == run["id"]), None), "the run to be taken up"
        )
        ended = until(lambda: (r := service.client.runs.get(taken_up["id"]))["outcome"] == "succeeded" and r, "the second run")
    assert ended["tables"][0]["phase"] == "done"
    assert [r["id"] for r in table_rows(service.warehouses, "things")] == [t["id"] for t in THINGS]
    assert "run.interrupted" in [line["code"] for line in service.client.runs.log(run["id"])]
    assert len(until(lambda: len(w := service.workers()) == 1 and w, "a new worker")) == 1


def test_a_killed_service_takes_up_its_run_at_the_next_start(service: RunningService) -> None:
    gate = Gate(list(THINGS), free=3)
    with serving(gate) as source:
        prepare(service.client, source.url)
        run = service.client.feeds.run("test")
        assert gate.waiting.wait(20)
        workers = service.workers()
        service.stop(signal.SIGKILL)
        gate.free = 1000
        gate.open.set()
        second = RunningService(service.folder)
        try:
            assert any(f"Run {run['id']} was interrupted" in line for line in second.out)
            assert not any(
                os.path.exists(f"/proc/{pid}") and "worker" in Path(f"/proc/{pid}/comm").read_text() for pid in workers
            )
            until(lambda: second.client.feeds.get("test")["fresh_at"], "the run to be taken up")
            (latest, first) = second.client.runs.list()
            assert (first["outcome"], latest["outcome"], latest["resumes"]) == ("interrupted", "succeeded", run["id"])
            assert len(table_rows(service.warehouses, "things")) == 400
        finally:
            assert second.stop() == 0
    assert not (service.folder / "service.json").exists()


def test_a_service_that_is_stopped_commits_what_it_has_and_goes_on_behind_it(tmp_path: Path) -> None:
    service = RunningService(tmp_path / "data", "--grace-seconds", "4")
    pages = Changing(list(THINGS), page=5)
    pause = threading.Event()

    def slowly(request: Request) -> Answer:
        pause.wait(0.25)
        return pages(request)

    with serving(slowly) as source:
        prepare(service.client, source.url)
        run = service.client.feeds.run("test")
        until(lambda: len(source.requests) > 3, "some pages to be read")
        assert service.client.runs.get(run["id"])["tables"][0]["inserted"] == 0
        assert service.stop() == 0
        first = len(table_rows(service.warehouses, "things"))
        assert 0 < first < 400
        pause.set()
        second = RunningService(service.folder)
        try:
            until(lambda: second.client.feeds.get("test")["fresh_at"], "the run to be taken up")
            (latest, cut) = second.client.runs.list()
            assert (cut["outcome"], cut["error"]["code"], latest["resumes"]) == ("interrupted", "run.shut_down", run["id"])
            assert [line["inserted"] for line in second.client.feeds.ledger("test")] == [400 - first, first]
        finally:
            assert second.stop() == 0


def test_the_ledgers_copy_follows_the_warehouse(service: RunningService) -> None:
    with serving(Changing(list(THINGS))) as source:
        prepare(service.client, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        db = sqlite3.connect(service.folder / "service.db")
        db.execute("delete from ledger")  # as if a worker had been killed right after its commit
        db.commit()
        db.close()
        assert service.client.feeds.ledger("test") == []
        service.client.feeds.run("test", wait_seconds=30)
    assert [line["inserted"] for line in service.client.feeds.ledger("test")] == [400]


def test_a_secret_is_in_no_answer_log_or_file(service: RunningService) -> None:
    def telling(request: Request) -> Answer:
        return Answer({"headers": request.headers, "path": request.path}, 403)

    client = service.client
    with serving(telling) as source:
        prepare(client, source.url)
        run = client.feeds.run("test", wait_seconds=30)
        plan = client.feeds.plan("test")
    assert run["outcome"] == "failed"
    assert plan["tables"][0]["error"] is not None
    said = json.dumps(
        [
            run.facts,
            plan,
            client.runs.log(run["id"]),
            client.definitions.list(),
            client.secrets.list(),
            client.feeds.list(),
            client.openapi(),
        ]
    )
    assert SECRET not in said
    assert "planted" not in said
    service.stop()
    for path in [*service.folder.rglob("*"), service.folder.with_suffix(".err")]:
        if path.is_file():
            assert SECRET.encode() not in path.read_bytes(), path.name


def test_definitions_with_mistakes_change_nothing(service: RunningService) -> None:
    good = basket_text("http://127.0.0.1:1")
    service.client.definitions.apply({"a.yaml": good})
    with pytest.raises(ServiceProblem) as refused:
        service.client.definitions.apply({"a.yaml": good.replace("write: upsert", "wrte: merge").replace("prefix", "x")})
    assert (refused.value.status, refused.value.code) == (422, "definition.mistakes")
    assert refused.value.details[0]["path"] == "feeds.test.tables.things.wrte"
    assert {d["version"] for d in service.client.definitions.list()} == {1}
    looked = service.client.definitions.apply({"a.yaml": good.replace("write: upsert", "write: append")}, dry_run=True)
    assert [(one["change"], one["diff"].splitlines()[-2:]) for one in looked if one["change"] != "same"] == [
        ("changed", ["-  write: upsert", "+  write: append"])
    ]
    assert service.client.definitions.get("feed", "test")["version"] == 1
    feed_only = good[good.index("feed: test") :].replace("into: marsh", "into: marsh\ntable_prefix: p_")
    assert [d["version"] for d in service.client.definitions.apply({"feed.yaml": feed_only})] == [2]


def test_who_may_call(service: RunningService) -> None:
    def status(method: str, path: str, body: Any = None, **headers: str) -> tuple[int, dict[str, Any], urllib3.HTTPHeaderDict]:
        raw = json.dumps(body).encode() if body is not None else None
        sent = {"Content-Type": "application/json", **{k.replace("_", "-"): v for k, v in headers.items()}}
        answer = urllib3.request(method, service.url + path, body=raw, headers=sent, retries=False)
        return answer.status, (json.loads(answer.data) if answer.data[:1] == b"{" else {}), answer.headers

    assert status("GET", "/healthz")[0] == 200
    code, problem, headers = status("GET", "/api/v1/feeds")
    assert (code, problem["code"], headers["content-type"]) == (401, "access.not_signed_in", "application/problem+json")
    assert status("GET", "/api/v1/feeds", Authorization="Bearer wrong")[0] == 401
    assert (
        status("GET", "/api/v1/feeds", Authorization=f"Bearer {service.token}", Host="evil.example")[1]["code"]
        == "access.unknown_host"
    )

    sign_in = service.sign_in.split("#")[1]
    code, _, headers = status("POST", "/api/v1/session", {"code": sign_in})
    cookie = headers["set-cookie"]
    assert code == 200
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    assert status("POST", "/api/v1/session", {"code": sign_in})[1]["code"] == "access.link_used"
    session = cookie.split(";")[0]
    assert status("GET", "/api/v1/feeds", Cookie=session)[0] == 200
    assert status("POST", "/api/v1/sign-in-codes", Cookie=session)[1]["code"] == "access.console_only"
    assert status("POST", "/api/v1/sign-in-codes", Cookie=session, X_Reed_Console="1")[0] == 201
    assert status("DELETE", "/api/v1/session", Cookie=session, X_Reed_Console="1")[0] == 204
    assert status("GET", "/api/v1/feeds", Cookie=session)[0] == 401
    assert status("GET", "/assets/..%2f..%2f..%2f..%2fetc/passwd")[0] == 404
    assert status("GET", "/api/v1/nothing")[1]["code"] == "api.not_found"


def test_only_one_service_on_a_data_folder(service: RunningService, tmp_path: Path) -> None:
    with pytest.raises(AssertionError, match=r"another service uses it.*service.folder_in_use"):
        RunningService(service.folder)
    assert service.client.health()["status"] == "ok"
    service.stop()
    with pytest.raises(ServiceUnreachable):
        service.client.health()


@pytest.mark.parametrize(("role", "examples"), [("admin", 2), ("operator", 1)])
def test_the_openapi_document_is_true(service: RunningService, role: str, examples: int) -> None:
    """Schemathesis calls every operation with what the document allows and with what it does not, and with what the role may not."""
    with serving(Changing(list(THINGS))) as source:
        prepare(service.client, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        token = service.client.tokens.add("schemathesis", role)["token"]
        # A stream ends only with its run; it has a test of its own.
        command = ["run", f"{service.url}/api/v1/openapi.json", "-H", f"Authorization: Bearer {token}"]
        # That a basket or a statement is refused for what it says is no matter of its JSON Schema.
        command += [
            "--exclude-checks",
            "positive_data_acceptance",
            "--max-examples",
            str(examples),
            "--seed",
            "7",
            "--no-color",
        ]
        # A stream, and the end of the token that this goes by.
        command += ["--exclude-path-regex", "events$|/tokens/"]
        done = subprocess.run([sys.executable, "-m", "schemathesis.cli", *command], capture_output=True, text=True, timeout=280)
    assert done.returncode == 0, done.stdout[-6000:] + done.stderr[-2000:]
