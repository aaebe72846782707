"""The client as people use it from outside: typed, by resource, over connections that it keeps, page by page and live."""

from __future__ import annotations

import re
import subprocess
import sys
from contextlib import redirect_stdout
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from io import StringIO
from pathlib import Path
from threading import Event, Thread

import pytest

from reedbasket.client import Client, ServiceProblem, ServiceUnreachable
from tests.conftest import RunningService
from tests.support.feeds import SECRET, basket_text
from tests.support.source import Changing, serving

ROOT = Path(__file__).resolve().parents[2]
RECORDS = [{"id": n, "name": f"n{n}", "updated_at": f"2026-03-01T06:00:{n:02d}Z"} for n in range(20)]
USE = """
from reedbasket.client import Client, Run, ServiceProblem

def use(reed: Client) -> int:
    run: Run = reed.feeds.run("harbour", allow_loss=True).wait(10)
    names: list[str] = [feed["name"] for feed in reed.feeds.list()]
    loads: int = sum(line["inserted"] for line in run.ledger)
    lines: list[str] = [line["message"] for line in run.log]
    all_runs: list[int] = [one.id for one in reed.runs.all(feed=names[0])]
    try:
        reed.definitions.apply({"a.yaml": ""}, dry_run=True)
    except ServiceProblem as problem:
        return problem.status
    return loads + len(lines) + len(all_runs)
"""
WRONG = (
    USE.replace('feed["name"]', 'feed["nmae"]').replace("allow_loss=True", "allow_los=True").replace(".wait(10)", ".wat(10)")
)


@pytest.mark.parametrize(("text", "mistakes"), [(USE, 0), (WRONG, 3)], ids=["right", "wrong"])
def test_types_hold_for_programs_outside(tmp_path: Path, text: str, mistakes: int) -> None:
    program = tmp_path / "notebook.py"
    program.write_text(text)
    command = [
        sys.executable,
        "-m",
        "mypy",
        "--strict",
        "--cache-dir",
        str(tmp_path / "cache"),
        "--config-file",
        "",
        str(program),
    ]
    done = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, timeout=600)
    assert len(re.findall(r": error: ", done.stdout)) == mistakes, done.stdout + done.stderr


def test_the_script_of_the_docs(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("REED_URL", service.url)
    monkeypatch.setenv("REED_TOKEN", service.token)
    (script,) = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "client.md").read_text("utf-8"), re.S)
    script = script.replace('"harbour"', '"test"').replace("sailings where delay_minutes > 10", "things")
    with serving(Changing(list(RECORDS))) as source:
        service.client.secrets.set("test_token", SECRET)
        service.client.definitions.apply({"a.yaml": basket_text(source.url)})
        said = StringIO()
        with redirect_stdout(said):
            exec(compile(script, "client.md", "exec"), {})
    assert "succeeded 20" in said.getvalue() and "things 20 0 0" in said.getvalue() and "[[20]]" in said.getvalue()


def test_a_service_that_is_slow_is_asked_once() -> None:
    asked: list[str] = []

    class Slow(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            asked.append(self.path)
            if len(asked) > 1:
                ended.wait(20)
            self.send_response(200)
            self.send_header("content-length", "2")
            self.end_headers()
            self.wfile.write(b"{}")

    ended, server = Event(), ThreadingHTTPServer(("127.0.0.1", 0), Slow)
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        with Client(f"http://127.0.0.1:{server.server_port}", "x", timeout=0.5) as reed:
            reed.health()
            with pytest.raises(ServiceUnreachable, match="did not answer in time"):
                reed.health()
    finally:
        ended.set()
        server.shutdown()
        server.server_close()
    assert len(asked) == 2


def test_pages_connections_and_refusals(service: RunningService) -> None:
    with serving(Changing(list(RECORDS))) as source, Client(service.url, service.token, timeout=20) as reed:
        reed.secrets.set("test_token", SECRET)
        reed.definitions.apply({"a.yaml": basket_text(source.url)})
        runs = [reed.feeds.run("test").wait() for _ in range(3)]
        assert [run.outcome for run in runs] == ["succeeded"] * 3 and runs[0].refresh().facts == runs[0].facts
        assert [run.id for run in reed.runs.all(feed="test")] == [run.id for run in reversed(runs)]
        lines = [line["number"] for line in runs[0].log]
        assert lines == sorted(set(lines)) and len(lines) >= 2
        assert [name for name, _ in runs[0].events()][-1] == "end"
        # What was idle for a moment is used again, also by another thread's turn; what the service has closed is not missed.
        caller = reed._caller
        kept, before = caller._idle[-1][1], reed.health()["version"]
        assert caller._idle[-1][1] is kept and before
        assert kept.sock is not None
        kept.sock.close()
        assert reed.health()["version"] == before
        with pytest.raises(ServiceProblem) as refused:
            reed.feeds.run("nothing")
        assert (refused.value.status, refused.value.code) == (404, "feed.not_found") and "Apply a basket" in str(refused.value)
    with pytest.raises(ServiceUnreachable, match="reed serve"):
        Client("http://127.0.0.1:9", "x").health()
