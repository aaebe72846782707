"""What the service answers is kept nowhere and carries nothing that runs; what a terminal shows is text."""

from __future__ import annotations

import os
import pty
import re
import select
import sys
from pathlib import Path

import pytest
import urllib3

from tests.conftest import RunningService
from tests.support.feeds import basket_text
from tests.support.source import Answer, serving


@pytest.mark.parametrize("path", ["/api/v1/feeds", "/api/v1/nothing", "/healthz", "/metrics", "/api/v1/openapi.json"])
def test_every_answer_says_how_it_may_be_used(service: RunningService, path: str) -> None:
    for headers in ({"Authorization": f"Bearer {service.token}"}, {}):
        answer = urllib3.request("GET", service.url + path, headers=headers)
        assert answer.headers["cache-control"] == "no-store" and answer.headers["x-content-type-options"] == "nosniff"
        assert answer.headers["content-security-policy"] == "default-src 'none'; frame-ancestors 'none'"
        assert answer.headers["referrer-policy"] == "no-referrer"


def test_a_session_behind_a_proxy_with_tls_is_for_tls_alone(tmp_path: Path) -> None:
    running = RunningService(tmp_path / "data", "--public-url", "https://reed.sedge.example", "--hosts", "reed.sedge.example")
    try:
        running.client.users.add("wren", "viewer", "otters like quiet reeds")
        answer = urllib3.request(
            "POST", running.url + "/api/v1/session", json={"name": "wren", "password": "otters like quiet reeds"}
        )
        assert answer.status == 200 and "Secure" in answer.headers["set-cookie"]
    finally:
        running.stop()


def test_a_data_folder_that_others_could_read_is_closed(service: RunningService) -> None:
    service.stop()
    service.folder.chmod(0o755)
    for name in ("token", "key", "service.db"):
        (service.folder / name).touch()
        (service.folder / name).chmod(0o644)
    again = RunningService(service.folder)
    try:
        modes = {path.name: path.stat().st_mode & 0o777 for path in (service.folder, *service.folder.glob("*"))}
        assert modes["data"] == 0o700 and {modes[name] for name in ("token", "key", "service.db")} == {0o600}
    finally:
        again.stop()


def test_a_source_does_not_steer_a_terminal(service: RunningService) -> None:
    evil = "\x1b]0;owned\x07\x1b[2J\x1b[8m\x9b31m\u202eevil\r\x08"
    with serving(lambda _: Answer(raw=evil.encode(), status=403, headers={"Content-Type": "text/plain"})) as source:
        service.client.secrets.set("test_token", "not-shown")
        service.client.definitions.apply({"a.yaml": basket_text(source.url)})
        child, terminal = pty.fork()
        if child == 0:
            os.environ.update(service.environment() | {"TERM": "xterm", "COLUMNS": "200"})
            os.execv(sys.executable, [sys.executable, "-m", "reedbasket.cli.main", "run", "test"])
        shown = b""
        while select.select([terminal], [], [], 60)[0]:
            try:
                shown += os.read(terminal, 65536)
            except OSError:  # it has ended
                break
        os.waitpid(child, 0)
        os.close(terminal)
    text = shown.decode()
    assert "evil" in text
    # What draws the table that is drawn anew: lines up, lines cleared, the cursor hidden and shown, colours.
    left = re.sub("\\r(?=\n)|\x1b\\[(1A|2K|\\?25[hl]|[0-9;]*m)|\r(?=\x1b)", "", text)
    assert not [letter for letter in left if letter in "\x1b\x07\x08\r\x9b\u202e"], left[-600:]
