"""Calls over HTTP, with the standard library's http.client: importing a larger library would take longer than a whole `reed run` that
finds nothing new (urllib3 100 ms, httpx 200 ms, http.client 30 ms).
"""

from __future__ import annotations

import http.client
import json
import threading
import time
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode, urlsplit

from .errors import ServiceProblem, ServiceUnreachable

# For connecting and for every read. The service itself answers a waiting call after 55 seconds at the latest, and a
# stream says something every 10.
QUIET_SECONDS = 90.0
_PATIENT_SECONDS = 3600.0
_PART_BYTES = 1 << 18
# Idle connections: how many are kept, and for how long; the service closes them after ten seconds.
_MOST_IDLE, _IDLE_SECONDS = 4, 5.0
_Failures = (OSError, http.client.HTTPException)


class Caller:
    """Calls one service, with one token. Thread-safe."""

    def __init__(self, url: str, token: str, timeout: float = QUIET_SECONDS) -> None:
        """Prepare; nothing is sent yet.

        Args:
            timeout: seconds for connecting and for every read.
        """
        self.url = url.rstrip("/")
        self._address = urlsplit(self.url)
        self._headers = {"authorization": f"Bearer {token}", "accept": "application/json"}
        self._timeout = timeout
        self._idle: list[tuple[float, http.client.HTTPConnection]] = []
        self._lock = threading.Lock()

    def close(self) -> None:
        """Close the idle connections."""
        with self._lock:
            idle, self._idle = self._idle, []
        for _, connection in idle:
            connection.close()

    def call(
        self, method: str, path: str, *, query: Mapping[str, Any] | None = None, body: Any = None, patient: bool = False
    ) -> Any:
        """The answer of one call.

        Args:
            patient: the answer may take as long as reading a whole source.
        """
        seconds = _PATIENT_SECONDS if patient else self._timeout
        connection, answer = self._send(method, path, query=query, body=body, seconds=seconds)
        try:
            text = answer.read()
        except _Failures as error:
            connection.close()
            raise self._unreachable(error) from error
        self._keep(connection, answer)
        return json.loads(text) if text else None

    def parts(self, path: str) -> Iterator[bytes]:
        """A file, one part at a time."""
        connection, answer = self._send("GET", path)
        try:
            while part := answer.read(_PART_BYTES):
                yield part
        except _Failures as error:
            raise self._unreachable(error) from error
        finally:
            connection.close()

    def events(self, path: str, query: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
        """Server-sent events, as they arrive: (name, data)."""
        connection, answer = self._send("GET", path, query=query)
        name, data = "", ""
        try:
            for raw in answer:
                line = raw.decode().rstrip("\n")
                if line.startswith("event: "):
                    name = line[7:]
                elif line.startswith("data: "):
                    data = line[6:]
                elif not line and name:
                    yield name, json.loads(data)
                    name = ""
        except _Failures as error:
            raise self._unreachable(error) from error
        finally:
            connection.close()

    def _send(
        self, method: str, path: str, *, query: Mapping[str, Any] | None = None, body: Any = None, seconds: float | None = None
    ) -> tuple[http.client.HTTPConnection, http.client.HTTPResponse]:
        """Raises ServiceProblem, ServiceUnreachable."""
        asked = {k: v for k, v in (query or {}).items() if v is not None}
        target = self._address.path + path + ("?" + urlencode(asked) if asked else "")
        headers, raw = dict(self._headers), None
        if body is not None:
            raw, headers["content-type"] = json.dumps(body).encode(), "application/json"
        # An idle connection may have been closed by the service just now: what changes nothing is then sent again.
        idle = self._take() if method == "GET" else None
        if idle is not None:
            try:
                assert idle.sock is not None
                idle.sock.settimeout(seconds or self._timeout)
                idle.request(method, target, raw, headers)
                return idle, self._accepted(idle, idle.getresponse())
            except TimeoutError as error:  # it was open, and the service is slow: asked twice, it would be slower
                idle.close()
                raise self._unreachable(error) from error
            except _Failures:
                idle.close()
        kind = http.client.HTTPSConnection if self._address.scheme == "https" else http.client.HTTPConnection
        try:
            connection = kind(self._address.hostname or "", self._address.port, timeout=seconds or self._timeout)
            connection.request(method, target, raw, headers)
            answer = connection.getresponse()
        except (*_Failures, ValueError) as error:
            raise self._unreachable(error) from error
        return connection, self._accepted(connection, answer)

    def _accepted(self, connection: http.client.HTTPConnection, answer: http.client.HTTPResponse) -> http.client.HTTPResponse:
        """Raises ServiceProblem where the service refuses."""
        if answer.status < 400:
            return answer
        try:
            problem = json.loads(answer.read())
        except (*_Failures, ValueError):
            problem = {"status": answer.status, "title": f"the service answered {answer.status}"}
        finally:
            connection.close()
        raise ServiceProblem(problem)

    def _take(self) -> http.client.HTTPConnection | None:
        with self._lock:
            while self._idle:
                since, connection = self._idle.pop()
                if time.monotonic() - since < _IDLE_SECONDS:
                    return connection
                connection.close()
        return None

    def _keep(self, connection: http.client.HTTPConnection, answer: http.client.HTTPResponse) -> None:
        if answer.will_close or connection.sock is None:
            connection.close()
            return
        with self._lock:
            if len(self._idle) < _MOST_IDLE:
                self._idle.append((time.monotonic(), connection))
                return
        connection.close()

    def _unreachable(self, error: Exception) -> ServiceUnreachable:
        if isinstance(error, TimeoutError):
            return ServiceUnreachable(
                f"the service at {self.url} did not answer in time; check whether it is busy, or try again"
            )
        return ServiceUnreachable(f"no service answers at {self.url}; start one with `reed serve` or `reed demo`")
