"""Who may call: a bearer token, or the console's session cookie."""

from __future__ import annotations

from flask import Request

from ..store import Store, access
from .problems import Forbidden, NotSignedIn

SESSION_COOKIE = "reed_session"
# The console sends it with every call. Another site's form cannot, so a cookie alone never changes anything.
CONSOLE_HEADER = "X-Reed-Console"
_LOOPBACK_HOSTS = {"127.0.0.1", "localhost", "[::1]"}


def check_host(request: Request, further: set[str]) -> None:
    """Only names that are ours: a page elsewhere may not reach a loopback service by a name of its own (DNS rebinding)."""
    host = request.host.rsplit(":", 1)[0] if not request.host.endswith("]") else request.host
    if host.lower() not in _LOOPBACK_HOSTS | further:
        raise Forbidden(
            "answering",
            request.path,
            found="a host name that is not this service's",
            mend="name it with `reed serve --hosts`",
            code="access.unknown_host",
        )


def check_caller(request: Request, store: Store) -> None:
    """Raises NotSignedIn or Forbidden."""
    header = request.headers.get("Authorization", "")
    if header:
        scheme, _, token = header.partition(" ")
        if scheme.lower() == "bearer" and access.token_known(store, token.strip()):
            return
        raise NotSignedIn(
            "checking the token", found="it is not one of this service's", mend="use the token in the data folder"
        )
    session = request.cookies.get(SESSION_COOKIE, "")
    if not session or not access.session_known(store, session):
        raise NotSignedIn(
            "checking who calls",
            found="neither a token nor a session",
            mend="send a bearer token, or get a sign-in link with `reed sign-in`",
        )
    if request.method not in ("GET", "HEAD") and CONSOLE_HEADER not in request.headers:
        raise Forbidden(
            "checking the call",
            found=f"a session without the header {CONSOLE_HEADER}",
            mend="use a bearer token outside the console",
            code="access.not_the_console",
        )
