"""Sources through the service: checked, surveyed, previewed at, signed in at; one token and one request log for all."""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import subprocess
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import urllib3

from reedbasket.cli.main import main as reed
from reedbasket.client import ServiceProblem
from reedbasket.store import Store, keeping
from reedbasket.store.pace import process_lives
from tests.conftest import RunningService
from tests.core.test_requests import basket
from tests.core.test_signin import FEED, OAUTH, THREE, Guarded
from tests.service.test_schedule import wait_for
from tests.support.feeds import SECRET
from tests.support.processes import workers_of
from tests.support.source import Answer, Request, serving

LANDINGS = [{"id": f"L{n}", "name": "Eelstairs", "n": n, "at": f"2026-03-0{n + 1}", "berths": [{"b": 1}]} for n in range(3)]


def apply(service: RunningService, text: str) -> None:
    service.client.secrets.set("test_token", SECRET)
    service.client.definitions.apply({"basket.yaml": text})


def test_looking_at_a_source_before_anything_is_brought(
    service: RunningService, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("REED_DATA", str(service.folder))
    client, refuse = service.client, [False]

    def answer(request: Request) -> Answer:
        if refuse[0] or request.headers.get("x-key") != SECRET:
            return Answer({"why": f"not with {request.headers.get('x-key')}"}, 401)
        if request.path == "/v1/broken":
            return Answer(raw=b"<html>")
        if request.path.endswith("/visits"):
            return Answer([{"visit": request.path}])
        return Answer({"rows": LANDINGS, "all": len(LANDINGS), "echo": SECRET}, headers={"Set-Cookie": "a=b"})

    tables = """
  - {table: landings, get: /landings, records: rows, total: all, query_params: {since: "{cursor.from}"}}
  - {table: broken, get: /broken, description: never worked}
  - {table: visits, parent: {table: landings}, get: "/landings/{parent.id}/visits", primary_key: visit}
"""
    with serving(answer) as source:
        apply(
            service,
            basket(
                source.url,
                tables,
                "tables: [landings]",
                'auth: {type: api_key, in: header, name: X-Key, key: "{settings.token}"}',
            ),
        )
        (listed,) = client.sources.list()
        assert (listed["base_url"], listed["feeds"], listed["settings"]["token"]) == (
            source.url + "/v1",
            ["test"],
            {"secret": "test_token"},
        )
        assert [(step["step"], step["ok"]) for step in client.sources.check("test")] == [
            (name, True) for name in ("secrets", "name", "port", "TLS", "sign-in", "answer", "records")
        ]
        landings, broken, visits = client.sources.survey("test")
        assert {c["name"]: (c["type"], c["distinct"]) for c in landings["columns"]} == {
            "id": ("text", 3),
            "name": ("text", 1),
            "n": ("int64", 3),
            "at": ("date", 3),
        }
        assert (landings["keys"], landings["cursors"], landings["lists"], landings["total"]) == (
            ["id", "n"],
            ["n"],
            ["berths"],
            3,
        )
        assert (broken["error"] and broken["error"]["code"], visits["parent"]) == ("source.body_unreadable", "landings")
        assert visits["request"] == f"GET {source.url}/v1/landings/L0/visits"

        previewed = client.sources.preview("test", "landings", rows=2, wire=True)
        assert [row[0] for row in previewed["rows"]] == ["L0", "L1"]
        (exchange,) = previewed["exchanges"]
        assert (exchange["headers"]["x-key"], exchange["answer_headers"]["set-cookie"]) == ("•••", "•••")
        assert '"echo": "•••"' in exchange["answer_body"]
        assert client.runs.list() == []
        refuse[0] = True
        with pytest.raises(ServiceProblem) as refused:
            client.sources.preview("test", "landings", wire=True)
        assert (refused.value.code, refused.value.status) == ("source.credentials_refused", 502)
        assert refused.value.details["exchanges"][0]["status"] == 401
        steps = {step["step"]: step for step in client.sources.check("test")}
        assert (steps["sign-in"]["ok"], steps["records"]["ok"], "reed secret set" in steps["sign-in"]["fix"]) == (
            False,
            None,
            True,
        )
        capsys.readouterr()
        assert reed(["check", "test"]) == 1
        assert reed(["survey", "test"]) == 1
        assert reed(["preview", "test", "landings", "--wire"]) == 1
        said = capsys.readouterr()
        assert re.search(r"sign-in +FAILED +it answered 401", said.out)
        assert "> x-key: •••" in said.out
        refuse[0] = False
        assert reed(["preview", "test", "landings", "--wire"]) == reed(["sources"]) == 0
        assert "Eelstairs" in capsys.readouterr().out
    everything = json.dumps([previewed, steps, refused.value.details, landings]) + said.out + said.err
    assert SECRET not in everything
    gone = {step["step"]: step["ok"] for step in client.sources.check("test")}
    assert (gone["name"], gone["port"], gone["answer"]) == (True, False, None)


def test_a_process_that_looks_is_there_before_anybody_asks(service: RunningService) -> None:
    wait_for(lambda: lookers(service.process.pid), 60)


def lookers(service: int) -> list[int]:
    """Processes for inspections, forked by the one that has imported what they need; workers are forked from it too."""

    def below(pid: int, named: str) -> list[int]:
        found = subprocess.run(["ps", "-wwo", "pid=,args=", "--ppid", str(pid)], capture_output=True, text=True).stdout
        return [int(line.split()[0]) for line in found.splitlines() if named in line]

    forked = [one for forks in below(service, "forkserver") for one in below(forks, "forkserver")]
    workers = workers_of(service)
    return [one for one in forked if one not in workers]


def test_a_look_that_is_cut_says_so_and_the_next_one_looks(service: RunningService) -> None:
    """Its process is ended while the source keeps it waiting; and it ends by itself once the service was killed."""
    waits = threading.Event()

    def answer(request: Request) -> Answer:
        waits.wait(0 if waits.is_set() else 30)
        return Answer({"rows": LANDINGS})

    pid = service.process.pid
    with serving(answer) as source, ThreadPoolExecutor(1) as threads:
        apply(service, basket(source.url, "\n  - {table: landings, get: /landings, records: rows}", "tables: [landings]"))
        looking = threads.submit(service.client.sources.preview, "test", "landings")
        wait_for(lambda: bool(lookers(pid)) and len(source.requests) == 1)
        for one in lookers(pid):
            os.kill(one, signal.SIGKILL)
        with pytest.raises(ServiceProblem) as cut:
            looking.result()
        assert (cut.value.status, cut.value.code) == (503, "service.inspection_ended")
        waits.set()
        assert len(service.client.sources.preview("test", "landings")["rows"]) == 3
        (left,) = lookers(pid)
        os.kill(pid, signal.SIGKILL)
        wait_for(lambda: not process_lives(left))


def test_a_person_signs_in_at_the_source_and_comes_back(service: RunningService) -> None:
    client, guarded = service.client, Guarded()
    text = OAUTH.replace(
        "client_id: reed", 'client_id: reed\n  grant: authorization_code\n  authorize_url: "{settings.url}/in?x=1"'
    )

    def error_of_run() -> str:
        run = client.feeds.run("test", wait_seconds=30)
        return run["error"]["code"] if run["error"] else run["outcome"]

    with serving(guarded) as source:
        apply(service, basket(source.url, THREE, FEED, text))
        assert (client.sources.get("test")["person"], client.sources.get("test")["signed_in"]) == (True, False)
        assert error_of_run() == "source.sign_in_needed"
        sign_in = client.sources.sign_in("test")["url"]
        asked = {name: values[0] for name, values in parse_qs(urlsplit(sign_in).query).items()}
        assert (asked["response_type"], asked["code_challenge_method"], asked["x"]) == ("code", "S256", "1")
        back = asked["redirect_uri"]
        assert back == service.url + "/signed-in-at-source"
        strange = urllib3.request("GET", f"{back}?code=abc&state=guessed", redirect=False)
        assert strange.status == 404
        # The person comes back without a session of ours: a cookie for this site only is not sent along from elsewhere.
        done = urllib3.request("GET", f"{back}?code=abc&state={asked['state']}", redirect=False)
        assert (done.status, done.headers["location"]) == (303, "/sources/test")
        (exchanged,) = guarded.asked
        assert (exchanged["grant_type"], exchanged["code"], exchanged["redirect_uri"]) == ("authorization_code", "abc", back)
        import base64
        import hashlib

        proof = base64.urlsafe_b64encode(hashlib.sha256(exchanged["code_verifier"].encode()).digest()).decode().rstrip("=")
        assert proof == asked["code_challenge"]
        assert urllib3.request("GET", f"{back}?code=abc&state={asked['state']}", redirect=False).status == 404
        assert (client.sources.get("test")["signed_in"], error_of_run()) == (True, "succeeded")
        again = parse_qs(urlsplit(client.sources.sign_in("test")["url"]).query)["state"][0]
        refused = urllib3.request("GET", f"{back}?error=access_denied&state={again}", redirect=False)
    assert refused.headers["location"].startswith("/sources/test#it%20sent%20you%20back%20access_denied")
    kept = b"".join(path.read_bytes() for path in service.folder.glob("service.db*"))
    assert guarded.given[0].encode() not in kept


def test_one_token_for_all_processes(tmp_path: Path) -> None:
    service, guarded = RunningService(tmp_path / "data", "--workers", "3"), Guarded()
    feeds = "\n---\n".join(f"feed: f{n}\nfrom: test\ninto: marsh\ntable_prefix: f{n}_\ntables: [t{n}]" for n in range(3))
    try:
        with serving(guarded) as source:
            apply(service, basket(source.url, THREE, FEED, OAUTH) + "\n---\n" + feeds)
            started = [service.client.feeds.run(f"f{n}") for n in range(3)]
            ended = [service.client.runs.get(run["id"], wait_seconds=30) for run in started]
        assert [run["outcome"] for run in ended] == ["succeeded"] * 3
        assert len(guarded.asked) == 1
    finally:
        service.stop()


def test_requests_are_kept_for_their_days_and_can_be_taken_along(
    service: RunningService, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("REED_DATA", str(service.folder))
    calls = threading.Lock(), [0]

    def answer(request: Request) -> Answer:
        with calls[0]:
            calls[1][0] += 1
            return (
                Answer({}, 503) if calls[1][0] == 3 else Answer([{"id": int(request.query["page"])}] if calls[1][0] < 8 else [])
            )

    table = "  - {table: things, get: /things, query_params: {k: '{settings.token}'}, "
    table += "pagination: {by: page_number, param: page}, primary_key: id}"
    with serving(answer) as source:
        apply(service, basket(source.url, table))
        run = service.client.feeds.run("test", wait_seconds=30)
    lines = service.client.runs.requests(run["id"])
    assert [(line["number"], line["status"], line["attempt"]) for line in lines][:4] == [
        (1, 200, 1),
        (2, 200, 1),
        (3, 503, 1),
        (4, 200, 2),
    ]
    assert lines[2]["pause_seconds"] > 0
    assert [line["number"] for line in service.client.runs.requests(run["id"], failed=True)] == [3]
    assert reed(["requests", str(run["id"]), "--to-file", str(tmp_path / "r.ndjson")]) == 0
    kept: list[Any] = [json.loads(line) for line in (tmp_path / "r.ndjson").read_text().splitlines()]
    token = service.token
    raw = urllib3.request(
        "GET", f"{service.url}/api/v1/runs/{run['id']}/requests.ndjson", headers={"authorization": f"Bearer {token}"}
    ).data
    assert kept == [json.loads(line) for line in raw.splitlines()] == lines
    assert all("k=•••" in line["url"] for line in lines)
    capsys.readouterr()
    assert reed(["requests", str(run["id"]), "--failed"]) == 0
    assert "it answered 503" in capsys.readouterr().out
    assert [line["number"] for line in lines if line["kept"]] == [3]
    assert reed(["requests", str(run["id"]), "--show", "3"]) == 0
    assert "< 503" in capsys.readouterr().out
    assert reed(["requests", str(run["id"]), "--show", "1"]) == 4
    assert "[request.not_recorded]" in capsys.readouterr().err
    with serving(lambda request: Answer([{"id": 1, "said": SECRET}] if request.query["page"] == "1" else [])) as source:
        apply(service, basket(source.url, table))
        whole = service.client.feeds.run("test", wait_seconds=30, bodies=True)
    assert whole["bodies"] and all(line["kept"] for line in service.client.runs.requests(whole["id"]))
    exchange = service.client.runs.exchange(whole["id"], 1)
    assert '"said": "•••"' in exchange["answer_body"] and "k=•••" in exchange["url"]
    db = sqlite3.connect(service.folder / "service.db")
    db.execute("update request set at = '2026-01-01T00:00:00.000Z' where number < 3 and run = ?", (run["id"],))
    db.commit()
    db.close()
    days = {"requests_days": 14, "runs_days": 14, "rejects_days": 14, "audit_days": 14}
    gone = keeping.purge(Store(service.folder), **days)
    assert (gone["requests"], gone["runs"]) == (2, 0)
    assert service.client.runs.requests(run["id"])[0]["number"] == 3
    db = sqlite3.connect(service.folder / "service.db")
    db.execute("update request set at = '2026-01-01T00:00:00.000Z'")
    db.commit()
    keeping.purge(Store(service.folder), **days)
    assert db.execute("select count(*) from request_body").fetchone() == (0,)
    db.close()
