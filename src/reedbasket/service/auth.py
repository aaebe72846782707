"""Who calls, and what they may: a bearer token, or the console's session cookie."""

from __future__ import annotations

import threading
import time
from urllib.parse import urlsplit

from flask import Request

from ..core.errors import ReedError
from ..store import Store, access
from ..store.access import Caller, Role
from .problems import Forbidden, NotSignedIn

SESSION_COOKIE = "reed_session"
# The console sends it with every call. Another site's form cannot, so a cookie alone never changes anything.
CONSOLE_HEADER = "X-Reed-Console"
_LOOPBACK_HOSTS = {"127.0.0.1", "localhost", "[::1]"}


class TooManyTries(ReedError):
    code = "access.too_many_tries"


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


def caller_of(request: Request, store: Store) -> Caller:
    """Raises NotSignedIn or Forbidden."""
    header = request.headers.get("Authorization", "")
    if header:
        scheme, _, token = header.partition(" ")
        found = access.caller_of_token(store, token.strip()) if scheme.lower() == "bearer" else None
        if found is not None:
            return found
        raise NotSignedIn(
            "checking the token", found="it is not one of this service's, or its time is over", mend="use another, or make one"
        )
    session = request.cookies.get(SESSION_COOKIE, "")
    found = access.caller_of_session(store, session) if session else None
    if found is None:
        raise NotSignedIn(
            "checking who calls",
            found="neither a token nor a session",
            mend="send a bearer token, sign in, or get a sign-in link with `reed sign-in`",
        )
    if request.method not in ("GET", "HEAD") and not _from_the_console(request):
        raise Forbidden(
            "checking the call",
            found=f"a session without the header {CONSOLE_HEADER}, or from another site",
            mend="use a bearer token outside the console",
            code="access.not_the_console",
        )
    return found


def _from_the_console(request: Request) -> bool:
    origin = request.headers.get("Origin")
    return CONSOLE_HEADER in request.headers and (origin is None or urlsplit(origin).netloc == request.host)


def require_role(caller: Caller, role: Role, doing: str) -> None:
    """Raises Forbidden."""
    if not caller.may(role):
        raise Forbidden(
            doing,
            found=f"{caller.name} has the role {caller.role}",
            mend=f"it takes the role {role}; ask an admin",
            code="access.role",
        )


class Tries:
    """Holds up guessing of passwords: after a few failures for a name or an address, the next waits, longer each time.

    In this process alone, which is the only one that answers. `_lock` guards the counts.
    """

    FREE = 5
    LONGEST_SECONDS = 300.0
    _MOST_HELD = 10_000

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._failed: dict[str, tuple[int, float]] = {}

    def require(self, *who: str) -> None:
        """Raises TooManyTries."""
        with self._lock:
            until = max((self._until(one) for one in who), default=0.0)
        rest = until - time.monotonic()
        if rest > 0:
            raise TooManyTries(
                "signing in", found="several tries failed", mend=f"wait {rest:.0f} s, then try again", wait_seconds=rest
            )

    def failed(self, *who: str) -> None:
        with self._lock:
            if len(self._failed) > self._MOST_HELD:
                self._failed.clear()
            for one in who:
                self._failed[one] = (self._failed.get(one, (0, 0.0))[0] + 1, time.monotonic())

    def succeeded(self, *who: str) -> None:
        with self._lock:
            for one in who:
                self._failed.pop(one, None)

    def _until(self, one: str) -> float:
        count, last = self._failed.get(one, (0, 0.0))
        return last + min(2.0 ** (count - self.FREE), self.LONGEST_SECONDS) if count >= self.FREE else 0.0
