"""Who calls, and what they may do: a bearer token, or the console's session cookie."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
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


class TooManyAttempts(ReedError):
    """Too many wrong passwords: the next attempt has to wait."""

    code = "access.too_many_attempts"


def check_host(request: Request, further: set[str]) -> None:
    """Only accept our own names: a page elsewhere must not reach a service on loopback under a name of its own (DNS rebinding)."""
    host = request.host.rsplit(":", 1)[0] if not request.host.endswith("]") else request.host
    if host.lower() not in _LOOPBACK_HOSTS | further:
        raise Forbidden(
            "answering",
            request.path,
            found="a host name that is not this service's",
            fix="name it with `reed serve --hosts`",
            code="access.unknown_host",
        )


def caller_of(request: Request, store: Store) -> Caller:
    """Who makes the request.

    Raises:
        NotSignedIn: there is no valid token or session.
        Forbidden: a session is used outside the console.
    """
    header = request.headers.get("Authorization", "")
    if header:
        scheme, _, token = header.partition(" ")
        found = access.caller_of_token(store, token.strip()) if scheme.lower() == "bearer" else None
        if found is not None:
            return found
        raise NotSignedIn("checking the token", found="it is unknown, or has expired", fix="use another one, or create one")
    session = request.cookies.get(SESSION_COOKIE, "")
    found = access.caller_of_session(store, session) if session else None
    if found is None:
        raise NotSignedIn(
            "checking the caller",
            found="neither a token nor a session",
            fix="send a bearer token, sign in, or get a sign-in link with `reed sign-in`",
        )
    if request.method not in ("GET", "HEAD") and not _from_the_console(request):
        raise Forbidden(
            "checking the call",
            found=f"a session without the header {CONSOLE_HEADER}, or from another site",
            fix="use a bearer token outside the console",
            code="access.console_only",
        )
    return found


def _from_the_console(request: Request) -> bool:
    origin = request.headers.get("Origin")
    return CONSOLE_HEADER in request.headers and (origin is None or urlsplit(origin).netloc == request.host)


def require_role(caller: Caller, role: Role, doing: str) -> None:
    """Check a caller's role.

    Raises:
        Forbidden: it is too low.
    """
    if not caller.may(role):
        raise Forbidden(
            doing,
            found=f"{caller.name} has the role {caller.role}",
            fix=f"this needs the role {role}; ask an admin",
            code="access.role",
        )


class AttemptLimiter:
    """Slows down password guessing: after a few failures from an address, or for a name, the next attempt waits, longer each time.

    An attempt counts from its beginning, so that many at once are no better than one after the other. A name only ever waits for a
    short time, and not at all from addresses that it has signed in from, so that nobody can lock others out.

    The counts are of this process, which is the only one that answers. `_lock` guards them.
    """

    _MOST_HELD = 10_000

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._failed: OrderedDict[str, tuple[int, float]] = OrderedDict()
        self._known: OrderedDict[tuple[str, str], None] = OrderedDict()

    def begin(self, name: str, address: str) -> None:
        """Begin an attempt, which counts as failed until it succeeds.

        Args:
            name: '' if it is not known yet.

        Raises:
            TooManyAttempts: it has to wait.
        """
        place = _place(address)
        with self._lock:
            bounds = [(f"address {place}", _OF_ADDRESS)]
            if name and (name, place) not in self._known:
                bounds.append((f"name {name}", _OF_NAME))
            rest = max(self._until(key, bound) for key, bound in bounds) - time.monotonic()
            if rest <= 0:
                for key, _ in bounds:
                    self._failed[key] = (self._failed.get(key, (0, 0.0))[0] + 1, time.monotonic())
                    self._failed.move_to_end(key)
                while len(self._failed) > self._MOST_HELD:
                    self._failed.popitem(last=False)
        if rest > 0:
            raise TooManyAttempts(
                "signing in", found="several attempts failed", fix=f"wait {rest:.0f} s, then try again", wait_seconds=rest
            )

    def failed(self, name: str, address: str) -> None:
        """The attempt has failed: the pause begins now, however long it took."""
        with self._lock:
            for key in (f"address {_place(address)}", f"name {name}"):
                if key in self._failed:
                    self._failed[key] = (self._failed[key][0], time.monotonic())

    def succeeded(self, name: str, address: str) -> None:
        """The password was right: earlier failures no longer count."""
        place = _place(address)
        with self._lock:
            for key in (f"address {place}", f"name {name}"):
                self._failed.pop(key, None)
            self._known[name, place] = None
            while len(self._known) > self._MOST_HELD:
                self._known.popitem(last=False)

    def _until(self, key: str, bound: _Bound) -> float:
        count, last = self._failed.get(key, (0, 0.0))
        # No exponent beyond what the longest pause needs: a float has its end too.
        return last + min(2.0 ** min(count - bound.free, 30), bound.longest) if count >= bound.free else 0.0


@dataclass(frozen=True)
class _Bound:
    """free: attempts before the first pause. longest: seconds."""

    free: int
    longest: float


_OF_ADDRESS, _OF_NAME = _Bound(5, 300.0), _Bound(20, 10.0)


def _place(address: str) -> str:
    """Whoever has one IPv6 address has all of its network (RFC 6177)."""
    try:
        found = ip_address(address)
    except ValueError:
        return address
    return str(ip_network(f"{found}/64", strict=False)) if found.version == 6 else address
