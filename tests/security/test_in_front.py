"""The proxy's block and the unit of docs/operating.md, as they stand there: carried out, on a private port."""

from __future__ import annotations

import json
import re
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
import urllib3

from tests.conftest import RunningService
from tests.support.certificates import Authority
from tests.support.programs import program

DOC = (Path(__file__).parents[2] / "docs" / "operating.md").read_text("utf-8")
PASSWORD = "otters like quiet reeds"


def block(begins: str) -> str:
    found = re.search(rf"```\w*\n({re.escape(begins)}.*?)```", DOC, re.DOTALL)
    assert found is not None
    return found[1]


@contextmanager
def nginx(folder: Path, authority: Authority, location: str, upstream: str) -> Iterator[int]:
    """The block with its certificate and ports put in: where it listens."""
    authority.issue("localhost", folder / "cert.pem", folder / "key.pem")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = block("server {").replace("listen 443 ssl;", f"listen 127.0.0.1:{port} ssl;")
    server = server.replace("server_name reed.sedge.example;", "ssl_certificate cert.pem; ssl_certificate_key key.pem;")
    server = server.replace("location / {", f"location {location} {{").replace("http://127.0.0.1:8640", upstream)
    temporary = "".join(f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
    (folder / "nginx.conf").write_text(
        f"daemon off; pid {folder}/nginx.pid; error_log stderr; worker_processes 1; events {{}}\n"
        f"http {{ access_log off; {temporary} {server} }}\n"
    )
    process = subprocess.Popen([program("nginx", "nginx-light"), "-p", str(folder), "-c", str(folder / "nginx.conf")])
    try:
        ends = time.monotonic() + 30
        while True:
            try:
                socket.create_connection(("127.0.0.1", port), timeout=1).close()
                break
            except OSError:
                assert process.poll() is None and time.monotonic() < ends
                time.sleep(0.05)
        yield port
    finally:
        process.terminate()
        process.wait(30)


@pytest.mark.parametrize("below", ["", "/reed"])
def test_behind_nginx_as_the_docs_say(tmp_path: Path, below: str) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    authority = Authority(tmp_path, "sedge")
    with nginx(tmp_path, authority, f"{below}/", f"http://127.0.0.1:{port}") as front:
        public = f"https://localhost:{front}{below}"
        options = ("--port", str(port), "--hosts", "reed.sedge.example", "--proxy", "127.0.0.1", "--public-url", public)
        service = RunningService(tmp_path / "data", *options)
        pool = urllib3.PoolManager(ca_certs=str(authority.root), retries=False, timeout=30)
        try:
            assert pool.request("GET", f"{public}/healthz").status == 200
            page = pool.request("GET", f"{public}/feeds")
            assert f'<base href="{below}/" />'.encode() in page.data and "max-age" in page.headers["strict-transport-security"]
            service.client.users.add("wren", "viewer", PASSWORD)
            # What a caller says of its own address counts for nothing.
            wrong = pool.request(
                "POST",
                f"{public}/api/v1/session",
                json={"name": "wren", "password": "x"},
                headers={"X-Forwarded-For": "10.9.9.9"},
            )
            assert wrong.status == 401
            signed_in = pool.request("POST", f"{public}/api/v1/session", json={"name": "wren", "password": PASSWORD})
            assert "Secure" in signed_in.headers["set-cookie"]
            told = [(line["what"], line["on"]) for line in service.client.audit()]
            assert ("sign in", "127.0.0.1") in told and "10.9.9.9" not in json.dumps(told)
            # A stream is heard while it goes on.
            cookie = signed_in.headers["set-cookie"].split(";")[0]
            stream = pool.request("GET", f"{public}/api/v1/events", headers={"Cookie": cookie}, preload_content=False)
            assert stream.read(14) == b"event: changed"
            stream.close()
            link = service.client.sign_in_code()["url"]
            assert link.startswith(f"{public}/sign-in#")
        finally:
            service.stop()


def test_the_system_s_unit_is_right_and_closed(tmp_path: Path) -> None:
    unit = tmp_path / "reed-basket.service"
    reed = Path(sys.executable).with_name("reed")
    assert reed.exists()
    # The user and the place are whoever installs it has.
    unit.write_text(block("# /etc/systemd").replace("User=reed", "User=root").replace("/opt/reed-basket/bin/reed", str(reed)))
    for asked in (["verify", "--man=no"], ["security", "--offline=yes", "--threshold=25"]):
        done = subprocess.run([program("systemd-analyze", "systemd"), *asked, str(unit)], capture_output=True, text=True)
        assert (done.returncode, done.stderr) == (0, ""), done.stdout + done.stderr
