"""One request, made from a table's definition, template values and the next page. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

import orjson

from ...spec import template
from ...spec.http import Body, HttpTable
from .pagination.pages import Step


@dataclass(frozen=True)
class Request:
    """A request. A POST here asks for a report: it only reads, and may be repeated like a GET.

    Attributes:
        headers: names in lower case, without credentials.
        beyond: see pages.Step.
    """

    url: str
    method: str = "GET"
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes | None = None
    beyond: bool = False

    def __repr__(self) -> str:
        return f"Request({self.method}, {len(self.body or b'')} bytes)"


class Requests:
    """The requests of one table.

    Args:
        base: the base URL, filled in.
    """

    def __init__(self, base: str, rule: HttpTable) -> None:
        self._base = base.rstrip("/")
        self._rule = rule
        self._send_in = rule.pagination.send_in if rule.pagination else "query"
        self._accept = {
            "json": "application/json",
            "ndjson": "application/x-ndjson",
            "csv": "text/csv",
            "xml": "application/xml",
        }

    def make(self, values: Mapping[str, Any], step: Step) -> Request:
        """A request. A parameter, header or member of the body whose value does not exist yet (no cursor) is left out."""
        rule = self._rule
        sent = {name: template.fill(text, values) for name, text in rule.query_params.items()}
        query = {name: text for name, text in sent.items() if text is not None}
        headers = {"accept": self._accept[rule.format.type]}
        for name, text in rule.headers.items():
            filled = template.fill(text, values)
            if filled is not None:
                headers[name.lower()] = filled
        body = None
        if rule.post is not None:
            extra = step.params if self._send_in == "body" else {}
            body, headers["content-type"] = _body(rule.body, values, extra)
        if self._send_in == "query":
            query |= step.params
        elif self._send_in == "header":
            headers |= {name.lower(): text for name, text in step.params.items()}
        url = step.url
        if url is None:
            path = template.fill(rule.path, values) or ""
            url = self._base + "/" + path.lstrip("/") + ("?" + urlencode(query, safe=":") if query else "")
        return Request(url, "GET" if rule.get is not None else "POST", headers, body, step.beyond)


def _body(rule: Body | None, values: Mapping[str, Any], extra: Mapping[str, str]) -> tuple[bytes, str]:
    """(body, its content type); extra: what asks for the page, put in at a dotted path."""
    if rule is None:
        return b"", "application/json"
    if rule.form is not None:
        filled = {name: template.fill(text, values) for name, text in rule.form.items()}
        return urlencode({n: t for n, t in filled.items() if t is not None} | dict(extra)).encode(), (
            "application/x-www-form-urlencoded"
        )
    if rule.graphql is not None:
        variables = template.fill_all(rule.variables, values)
        for path, text in extra.items():
            _put(variables, path, text)
        return orjson.dumps({"query": rule.graphql, "variables": variables}), "application/json"
    made = template.fill_all(rule.as_json, values)
    for path, text in extra.items():
        _put(made, path, text)
    return orjson.dumps(made), "application/json"


def _put(body: Any, path: str, text: str) -> None:
    """Put a text at a path like `paging.after`, creating objects on the way. Counts are sent as numbers, as JSON APIs expect."""
    *above, name = path.split(".")
    for step in above:
        body = body.setdefault(step, {})
    body[name] = int(text) if (text.isdigit() and len(text) < 16 and not text.startswith("0")) or text == "0" else text
