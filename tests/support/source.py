"""A source under the test's control: real HTTP on loopback, answering as the test says."""

from __future__ import annotations

import json
import socket
import ssl
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, parse_qsl, urlsplit


@dataclass
class Answer:
    """What to send. cut: promise this many more bytes than are sent, then hang up; reset: with a reset (RST) in place of an end.
    drip: seconds between bytes."""

    body: Any = None
    status: int = 200
    headers: dict[str, str] = field(default_factory=dict)
    raw: bytes | None = None
    cut: int = 0
    reset: bool = False
    drip: float = 0.0


@dataclass
class Request:
    path: str
    query: dict[str, str]
    headers: dict[str, str]
    method: str = "GET"
    body: bytes = b""

    @property
    def json(self) -> Any:
        return json.loads(self.body)

    @property
    def form(self) -> dict[str, str]:
        return dict(parse_qsl(self.body.decode()))


Handler = Callable[[Request], Answer]


class Source:
    """The server's address, and every request it saw."""

    def __init__(self, handler: Handler, tls: ssl.SSLContext | None = None) -> None:
        self.handler = handler
        self.requests: list[Request] = []
        source = self

        class Serve(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                parts = urlsplit(self.path)
                query = {k: v[-1] for k, v in parse_qs(parts.query).items()}
                headers = {k.lower(): v for k, v in self.headers.items()}
                body = self.rfile.read(int(headers.get("content-length", 0)))
                request = Request(parts.path, query, headers, self.command, body)
                source.requests.append(request)
                answer = source.handler(request)
                raw = answer.raw if answer.raw is not None else json.dumps(answer.body).encode()
                self.send_response(answer.status)
                for name, value in {"Content-Type": "application/json", **answer.headers}.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(raw) + answer.cut))
                self.end_headers()
                if answer.drip:
                    for byte in raw:
                        self.wfile.write(bytes([byte]))
                        self.wfile.flush()
                        time.sleep(answer.drip)
                else:
                    self.wfile.write(raw)
                if answer.reset:
                    self.connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
                if answer.cut:
                    self.wfile.flush()
                    self.close_connection = True

            do_POST = do_GET  # noqa: N815

            def log_message(self, *_: Any) -> None:
                pass

        class Server(ThreadingHTTPServer):
            def handle_error(self, request: Any, client_address: Any) -> None:
                """Clients here are killed on purpose; that one hung up is no news."""

        self._server = Server(("127.0.0.1", 0), Serve)
        self._server.daemon_threads = True
        self.url = f"http{'s' if tls else ''}://127.0.0.1:{self._server.server_port}"
        if tls:
            self._server.socket = tls.wrap_socket(self._server.socket, server_side=True)
        threading.Thread(target=self._server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@contextmanager
def serving(handler: Handler, tls: ssl.SSLContext | None = None) -> Iterator[Source]:
    source = Source(handler, tls)
    try:
        yield source
    finally:
        source.close()


class Changing:
    """A list of records that changes, listed by (updated_at, id) in pages by token, as an honest API does it.

    Lower bound inclusive, upper bound exclusive. Set `records` to change the world.
    """

    def __init__(self, records: list[dict[str, Any]], page: int = 50, column: str = "updated_at") -> None:
        self.records = records
        self.page = page
        self.column = column

    def __call__(self, request: Request) -> Answer:
        query = request.query
        found = sorted(self.records, key=lambda r: (r.get(self.column) or "", str(r.get("id"))))
        if "since" in query:
            found = [r for r in found if r.get(self.column) is None or r[self.column] >= query["since"]]
        start = int(query.get("after", 0))
        more = start + self.page < len(found)
        meta = {"next": str(start + self.page) if more else None, "total": len(found)}
        return Answer({"items": found[start : start + self.page], "meta": meta})
