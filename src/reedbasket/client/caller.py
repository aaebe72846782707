"""Calls over HTTP, with the standard library's http.client: importing a larger library would take longer than a
whole `reed run` that finds nothing new (urllib3 100 ms, httpx 200 ms, http.client 30 ms)."""

from __future__ import annotations

import http.client
import json
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode, urlsplit

from .errors import ServiceProblem, ServiceUnreachable

# For connecting and for every read. The service itself answers a waiting call after 55 seconds at the latest, and a
# stream says something every 10.
_QUIET_SECONDS = 90.0
_PATIENT_SECONDS = 3600.0
_PART_BYTES = 1 << 18


class Caller:
    """Who calls one service, with one token."""

    def __init__(self, url: str, token: str) -> None:
        self.url = url.rstrip("/")
        self._headers = {"authorization": f"Bearer {token}", "accept": "application/json"}

    def call(
        self, method: str, path: str, *, query: Mapping[str, Any] | None = None, body: Any = None, patient: bool = False
    ) -> Any:
        """patient: the answer may take as long as reading a whole source."""
        answer = self.send(method, path, query=query, body=body, seconds=_PATIENT_SECONDS if patient else _QUIET_SECONDS)
        try:
            text = answer.read()
        except (OSError, http.client.HTTPException) as error:
            raise self.unreachable() from error
        return json.loads(text) if text else None

    def parts(self, path: str) -> Iterator[bytes]:
        """A file, a part at a time."""
        answer = self.send("GET", path)
        try:
            while part := answer.read(_PART_BYTES):
                yield part
        except (OSError, http.client.HTTPException) as error:
            raise self.unreachable() from error
        finally:
            answer.close()

    def events(self, path: str, query: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
        """Server-sent events: (name, data), as they come."""
        answer = self.send("GET", path, query=query)
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
        except (OSError, http.client.HTTPException) as error:
            raise self.unreachable() from error
        finally:
            answer.close()

    def send(
        self,
        method: str,
        path: str,
        *,
        query: Mapping[str, Any] | None = None,
        body: Any = None,
        seconds: float = _QUIET_SECONDS,
    ) -> http.client.HTTPResponse:
        """A connection of its own for each call, so that threads may share a client."""
        asked = {k: v for k, v in (query or {}).items() if v is not None}
        address = urlsplit(self.url)
        target = address.path + path + ("?" + urlencode(asked) if asked else "")
        headers = dict(self._headers)
        raw = None
        if body is not None:
            raw, headers["content-type"] = json.dumps(body).encode(), "application/json"
        kind = http.client.HTTPSConnection if address.scheme == "https" else http.client.HTTPConnection
        try:
            connection = kind(address.hostname or "", address.port, timeout=seconds)
            connection.request(method, target, raw, {**headers, "connection": "close"})
            answer = connection.getresponse()
        except (OSError, http.client.HTTPException, ValueError) as error:
            raise self.unreachable() from error
        if answer.status >= 400:
            try:
                problem = json.loads(answer.read())
            except (OSError, http.client.HTTPException, ValueError):
                problem = {"status": answer.status, "title": f"the service answered {answer.status}"}
            raise ServiceProblem(problem)
        return answer

    def unreachable(self) -> ServiceUnreachable:
        """What to raise where nothing answers."""
        return ServiceUnreachable(f"no service answers at {self.url}; start one with `reed serve` or `reed demo`")
