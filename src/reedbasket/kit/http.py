"""Asking an API: each request is sent by the worker, at the source's pace, signed in, tried again, and kept in the run's log."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from ..core.records import json_body

Sent = Callable[[dict[str, Any]], tuple[dict[str, Any], bytes]]


class Headers(Mapping[str, str]):
    """Of an answer. Names are compared without case, as HTTP does (RFC 9110, section 5.1)."""

    def __init__(self, headers: Mapping[str, str]) -> None:
        self._held = {name.lower(): value for name, value in headers.items()}

    def __getitem__(self, name: str) -> str:
        return self._held[name.lower()]

    def __iter__(self) -> Iterator[str]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)


@dataclass(frozen=True)
class Answer:
    """An answer.

    Attributes:
        status: the HTTP status.
        headers: by name, in any case.
        body: as it came, unpacked.
        url: that answered, behind redirects.
    """

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str

    def json(self) -> Any:
        """The body as JSON; numbers exact, integers of any size, Decimal where a float would not do.

        Raises:
            ValueError: it is none.
        """
        return json_body.parse(self.body)[0]

    @property
    def text(self) -> str:
        """The body as text."""
        return self.body.decode("utf-8", "replace")


class Http:
    """Addresses are paths below the connector's `base_url`, or whole ones of the same server, as a page names the next one. What goes wrong
    ends the reading, with an error that people can read; nothing has to be caught."""

    def __init__(self, ask: Sent) -> None:
        self._ask = ask

    def get(
        self,
        path: str,
        query: Mapping[str, Any] | None = None,
        *,
        headers: Mapping[str, str] | None = None,
        good: tuple[int, ...] = (200,),
    ) -> Answer:
        """Send a GET request.

        Args:
            path: below `base_url`, or a whole address of the same server.
            query: parameters; those that are None are left out, times are written as RFC 3339.
            headers: sent besides the connector's own.
            good: statuses that are no error.
        """
        return self._send("GET", path, query, headers, good, {})

    def post(
        self,
        path: str,
        *,
        json: Any = None,
        form: Mapping[str, Any] | None = None,
        query: Mapping[str, Any] | None = None,
        headers: Mapping[str, str] | None = None,
        good: tuple[int, ...] = (200,),
    ) -> Answer:
        """Send a POST request that only reads: it may be sent again.

        Args:
            path: below `base_url`, or a whole address of the same server.
            json: the body, as JSON.
            form: the body as an HTML form sends it, in place of `json`.
            query: parameters; those that are None are left out.
            headers: sent besides the connector's own.
            good: statuses that are no error.
        """
        return self._send("POST", path, query, headers, good, {"json": json} if form is None else {"form": _texts(form)})

    def _send(
        self,
        method: str,
        path: str,
        query: Mapping[str, Any] | None,
        headers: Mapping[str, str] | None,
        good: tuple[int, ...],
        body: dict[str, Any],
    ) -> Answer:
        asked = {
            "method": method,
            "path": path,
            "query": _texts(query or {}),
            "headers": dict(headers or {}),
            "good": list(good),
            **body,
        }
        head, content = self._ask(asked)
        return Answer(head["status"], Headers(head["headers"]), content, head["url"])


def _texts(values: Mapping[str, Any]) -> dict[str, str]:
    return {name: _text(value) for name, value in values.items() if value is not None}


def _text(value: Any) -> str:
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat().replace("+00:00", "Z")
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)
