"""Callers who say nothing, or half of something, or do not listen, keep nobody else from being answered."""

from __future__ import annotations

import http.client
import socket
import ssl
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Any

import pytest

from reedbasket.service import web_server
from tests.conftest import RunningService
from tests.support.certificates import Authority

HALF_HEADERS = b"GET /healthz HTTP/1.1\r\nHost: x\r\nX-Slow: "
HALF_BODY = b"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 4000\r\n\r\n{"


def status(port: int, path: str = "/healthz", source: str = "127.0.0.2", tls: ssl.SSLContext | None = None) -> int:
    kind: Any = http.client.HTTPSConnection if tls else http.client.HTTPConnection
    more = {"context": tls} if tls else {}
    connection = kind("127.0.0.1", port, timeout=20, source_address=(source, 0), **more)
    connection.request("GET", path)
    found: int = connection.getresponse().status
    connection.close()
    return found


@pytest.fixture
def secured(tmp_path: Path) -> Iterator[tuple[RunningService, ssl.SSLContext]]:
    authority, cert, key = Authority(tmp_path, "sedge"), tmp_path / "cert.pem", tmp_path / "key.pem"
    authority.issue("localhost", cert, key)
    running = RunningService(tmp_path / "data", "--tls-cert", str(cert), "--tls-key", str(key))
    context = ssl.create_default_context(cafile=str(authority.root))
    context.check_hostname = False
    yield running, context
    running.stop()


def attacked(stack: ExitStack, port: int, tls: ssl.SSLContext | None) -> list[socket.socket]:
    """More connections of one address than it may have: silent, with half of a header, with half of a body."""
    opened = []
    for number in range(3 * 60):
        plain = stack.enter_context(socket.create_connection(("127.0.0.1", port), timeout=20, source_address=("127.0.0.9", 0)))
        try:
            made = stack.enter_context(tls.wrap_socket(plain, server_hostname="127.0.0.1")) if tls else plain
            made.sendall((b"", HALF_HEADERS, HALF_BODY)[number % 3])
            opened.append(made)
        except OSError:  # refused, as it should be
            continue
    return opened


@pytest.mark.parametrize("way", ["plain", "TLS"])
def test_slow_clients_keep_nobody_waiting(request: pytest.FixtureRequest, way: str) -> None:
    running, context = (request.getfixturevalue("service"), None) if way == "plain" else request.getfixturevalue("secured")
    port = int(running.url.rpartition(":")[2])
    with ExitStack() as stack:
        attacked(stack, port, context)
        assert [status(port, tls=context) for _ in range(5)] == [200] * 5
        with pytest.raises(OSError):
            status(port, source="127.0.0.9", tls=context)


def test_who_calls_is_known_behind_tls(secured: tuple[RunningService, ssl.SSLContext]) -> None:
    """So that wrong passwords of one address hold up nobody else, and the audit says who it was."""
    running, context = secured
    port = int(running.url.rpartition(":")[2])
    codes = []
    for source in ["127.0.0.5"] * 12 + ["127.0.0.6"]:
        connection = http.client.HTTPSConnection("127.0.0.1", port, timeout=20, context=context, source_address=(source, 0))
        body = b'{"name": "nobody-%d", "password": "wrong wrong"}' % len(codes)
        connection.request("POST", "/api/v1/session", body, {"Content-Type": "application/json"})
        codes.append(connection.getresponse().status)
        connection.close()
    assert codes[0] == 401 and codes[-2] == 429 and codes[-1] == 401, codes


def test_no_body_is_taken_that_is_too_large(service: RunningService) -> None:
    port = int(service.url.rpartition(":")[2])
    with socket.create_connection(("127.0.0.1", port), timeout=20) as connection:
        connection.sendall(b"POST /api/v1/basket HTTP/1.1\r\nHost: x\r\nContent-Length: 900000000\r\n\r\n")
        assert b" 413 " in connection.recv(4000).splitlines()[0]


def test_what_is_never_finished_or_never_read_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("REQUEST_SECONDS", "IDLE_SECONDS", "UNREAD_SECONDS", "_LOOK_SECONDS"):
        monkeypatch.setattr(web_server, name, 1)

    def app(environ: dict[str, Any], start: Any) -> Any:
        start("200 OK", [("Content-Type", "text/plain")])
        return (b"x" * 65536 for _ in range(2000))

    made = web_server.web_server(app, threads=2, proxy="", host="127.0.0.1", port=0)
    threading.Thread(target=made.run, daemon=True).start()
    port = int(made.effective_port)
    with ExitStack() as stack:
        waiting = [stack.enter_context(socket.create_connection(("127.0.0.1", port), timeout=30)) for _ in range(3)]
        waiting[1].sendall(HALF_HEADERS)
        waiting[2].sendall(HALF_BODY)
        unread = [stack.enter_context(socket.create_connection(("127.0.0.1", port), timeout=30)) for _ in range(2)]
        for connection in unread:  # both threads are kept by answers that nobody reads
            connection.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        for connection in waiting:
            with suppress(ConnectionResetError):
                assert connection.recv(10) == b""
        ends = time.monotonic() + 60
        while True:
            with socket.create_connection(("127.0.0.1", port), timeout=5) as last:
                last.sendall(b"GET / HTTP/1.0\r\n\r\n")
                try:
                    if last.recv(12).startswith(b"HTTP/1.0 200"):
                        break
                except (TimeoutError, ConnectionResetError):
                    assert time.monotonic() < ends, "the threads stayed with answers that nobody reads"
