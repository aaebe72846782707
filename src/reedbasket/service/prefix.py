"""A service below a path: https://sedge.example/reed/."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import urlsplit

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


def prefix_of(public_url: str) -> str:
    """ "/reed" of https://sedge.example/reed/; '' for the root."""
    return urlsplit(public_url).path.rstrip("/")


class PrefixMiddleware:
    """Serves below the prefix, whether or not the proxy removes it: links contain it in both cases."""

    def __init__(self, app: Wsgi, prefix: str) -> None:
        self._app = app
        self._prefix = prefix

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        """As WSGI defines it."""
        path = environ.get("PATH_INFO", "")
        if path == self._prefix or path.startswith(self._prefix + "/"):
            environ["PATH_INFO"] = path[len(self._prefix) :] or "/"
        environ["SCRIPT_NAME"] = self._prefix
        return self._app(environ, start_response)
