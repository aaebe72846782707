"""Requests of a connector: each is sent by the worker, at the source's pace, authenticated, retried, and kept in the run's log."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from ..core.records import json_body

Sent = Callable[[dict[str, Any]], tuple[dict[str, Any], bytes]]


class Headers(Mapping[str, str]):
    """The headers of an answer. The case of names does not matter, as in HTTP (RFC 9110, section 5.1)."""

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
        body: decompressed.
        url: that answered, after redirects.
    """

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str

    def json(self) -> Any:
        """The body as JSON, with exact numbers: integers of any size, and Decimal if a float would not do.

        Raises:
            ValueError: it is not JSON.
        """
        return json_body.parse(self.body)[0]

    @property
    def text(self) -> str:
        """The body as text."""
        return self.body.decode("utf-8", "replace")


class Http:
    """Sends requests. Addresses are paths below the connector's `base_url`, or whole ones on the same server, such as a next page's. An
    error ends the read with a message that people can understand; nothing has to be caught.
    """

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
            path: below `base_url`, or a whole address on the same server.
            query: parameters; None is left out, and times are written as RFC 3339.
            headers: sent in addition to the connector's own.
            good: statuses that are not errors.
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
            path: below `base_url`, or a whole address on the same server.
            json: the body, as JSON.
            form: the body as an HTML form sends it, instead of `json`.
            query: parameters; None is left out.
            headers: sent in addition to the connector's own.
            good: statuses that are not errors.
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
