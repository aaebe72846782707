"""Credentials that every request carries: headers and parameters."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, urlencode, urlsplit, urlunsplit

from ...spec import template
from ...spec.auth import ApiKeyAuth, Auth, BasicAuth, BearerAuth


@dataclass(frozen=True)
class Credentials:
    """Credentials.

    Attributes:
        hidden: forms of the secrets that must be masked, besides the secrets themselves.
    """

    headers: Mapping[str, str] = field(default_factory=dict)
    query: Mapping[str, str] = field(default_factory=dict)
    hidden: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"Credentials(headers={sorted(self.headers)}, query={sorted(self.query)})"

    def address(self, url: str) -> str:
        """The URL with the parameters. In a next address from the source, they replace those that are there already."""
        if not self.query:
            return url
        parts = urlsplit(url)
        others = [(name, value) for name, value in parse_qsl(parts.query, keep_blank_values=True) if name not in self.query]
        return urlunsplit(parts._replace(query=urlencode([*others, *self.query.items()], safe=":")))


def credentials(auth: Auth | None, values: Mapping[str, Any]) -> Credentials:
    """The credentials that an auth rule describes.

    Args:
        values: what templates may name, secrets included.
    """
    if isinstance(auth, BearerAuth):
        return Credentials({"authorization": "Bearer " + (template.fill(auth.token, values) or "")})
    if isinstance(auth, BasicAuth):
        user, password = (template.fill(text, values) or "" for text in (auth.user, auth.password))
        pair = base64.b64encode(f"{user}:{password}".encode()).decode()
        return Credentials({"authorization": f"Basic {pair}"}, hidden=(pair,))
    if isinstance(auth, ApiKeyAuth):
        key = template.fill(auth.key, values) or ""
        if auth.send_in == "query":
            return Credentials(query={auth.name: key})
        return Credentials({"cookie": f"{auth.name}={key}"} if auth.send_in == "cookie" else {auth.name.lower(): key})
    return Credentials()  # tokens and signatures are shown by what fetches or makes them
