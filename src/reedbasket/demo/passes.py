"""The passes stand-in, a partner's API: OAuth 2 client credentials with tokens that soon end, pages by number, and 5 requests a
second at most, beyond which it answers 429."""

from __future__ import annotations

import base64
import random
import secrets
import threading
import time
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Flask, Response, request

from .ferries import LANDINGS, SEED, time_text
from .serving import as_json

HOLDERS = 480
USES = 3_600
TOKEN_SECONDS = 20
PER_SECOND = 5
_NAMES = ["Ada", "Bram", "Cleo", "Doro", "Emil", "Finn", "Gwen", "Hedy", "Ivo", "Juno"]
_LAST = ["Alder", "Birch", "Cress", "Dock", "Elder", "Fern", "Gorse", "Hazel", "Iris", "Juncus"]
_ZONES = ["inner", "outer", "all"]


class Passes:
    """The records, the tokens given out, and who asked when. `_lock` guards them all."""

    def __init__(self, client_id: str, client_secret: str, now: datetime) -> None:
        rng = random.Random(SEED + 2)
        self._pair = f"{client_id}:{client_secret}"
        self._lock = threading.Lock()
        self._tokens: dict[str, float] = {}
        self._asked: deque[float] = deque()
        self.down_until = 0.0
        self.holders = [_holder(rng, number, now) for number in range(1, HOLDERS + 1)]
        self.uses = [_use(rng, number, now) for number in range(1, USES + 1)]

    def token(self, authorization: str) -> str | None:
        """A new one, or None for a stranger."""
        given = authorization.removeprefix("Basic ")
        if given != base64.b64encode(self._pair.encode()).decode():
            return None
        made = secrets.token_urlsafe(18)
        with self._lock:
            self._tokens[made] = time.monotonic() + TOKEN_SECONDS
        return made

    def known(self, authorization: str) -> bool:
        """Whether a token is one that was given out and has not ended."""
        with self._lock:
            return self._tokens.get(authorization.removeprefix("Bearer "), 0.0) > time.monotonic()

    def admitted(self) -> tuple[bool, int]:
        """(whether this request is within the limit, how many are left in this second)."""
        now = time.monotonic()
        with self._lock:
            while self._asked and self._asked[0] <= now - 1.0:
                self._asked.popleft()
            if len(self._asked) >= PER_SECOND:
                return False, 0
            self._asked.append(now)
            return True, PER_SECOND - len(self._asked)

    def token_expires(self) -> str:
        """End all tokens: what happened, in words."""
        with self._lock:
            self._tokens.clear()
        return "all access tokens have expired early"

    def partner_down(self) -> str:
        """Out of order for a minute: what happens, in words."""
        self.down_until = time.monotonic() + 60
        return "the partner answers 503 for a minute"

    def pass_given_back(self) -> str:
        """One pass less: what happened, in words."""
        with self._lock:
            holder = next(h for h in self.holders if h["closed_on"] is None)
            holder["closed_on"] = datetime.now(UTC).date().isoformat()
        return f"pass {holder['pass_no']} was given back"


def _holder(rng: random.Random, number: int, now: datetime) -> dict[str, Any]:
    first, last = rng.choice(_NAMES), rng.choice(_LAST)
    return {
        "pass_no": f"P-{number:05d}",
        "holder": {"name": f"{first} {last}", "email": f"{first}.{last}{number}@post.example".lower()},
        "born": f"{rng.randint(1940, 2012)}-{rng.randint(1, 12):02d}-{rng.randint(1, 28):02d}",
        "zone": rng.choice(_ZONES),
        "since": (now.date() - timedelta(days=rng.randint(20, 900))).isoformat(),
        "closed_on": None,
    }


def _use(rng: random.Random, number: int, now: datetime) -> dict[str, Any]:
    tapped = now - timedelta(days=6) + timedelta(seconds=number * 140 + rng.randint(0, 100))
    return {
        "use_id": number,
        "pass_no": f"P-{rng.randint(1, HOLDERS):05d}",
        "landing": rng.choice(LANDINGS),
        "tapped_at": int(tapped.timestamp()),
    }


def create_passes(client_id: str, client_secret: str, now: datetime) -> tuple[Flask, dict[str, Callable[[], str]]]:
    """(the application, what can happen to it). now: when the story begins."""
    app, passes = Flask(__name__), Passes(client_id, client_secret, now)

    @app.post("/oauth/token")
    def token() -> Response:
        made = passes.token(request.headers.get("Authorization", ""))
        if made is None:
            return as_json({"error": "invalid_client", "error_description": "no such partner"}, 401)
        return as_json({"access_token": made, "token_type": "Bearer", "expires_in": TOKEN_SECONDS})

    @app.get("/v2/<name>")
    def listed(name: str) -> Response:
        if time.monotonic() < passes.down_until:
            return as_json({"message": "closed for maintenance"}, 503)
        admitted, left = passes.admitted()
        limits = {"X-RateLimit-Limit": str(PER_SECOND), "X-RateLimit-Remaining": str(left), "X-RateLimit-Reset": "1"}
        if not admitted:
            return as_json({"message": "too many requests"}, 429, {**limits, "Retry-After": "1"})
        if not passes.known(request.headers.get("Authorization", "")):
            return as_json({"message": "the token is not known, or has expired"}, 401, limits)
        records = passes.uses if name == "pass-uses" else passes.holders if name == "pass-holders" else None
        if records is None:
            return as_json({"message": "there are pass-holders and pass-uses"}, 404, limits)
        since = int(request.args.get("after", 0))
        found = [r for r in records if r.get("tapped_at", since + 1) > since]
        page, size = max(1, int(request.args.get("page", 1))), min(200, int(request.args.get("page_size", 100)))
        part = found[(page - 1) * size : page * size]
        told = {"data": part, "page": page, "pages": max(1, -(-len(found) // size)), "count": len(found)}
        return as_json(told, 200, {**limits, "X-Answered": time_text(datetime.now(UTC))})

    happens = {
        "token_expires": passes.token_expires,
        "partner_down": passes.partner_down,
        "pass_given_back": passes.pass_given_back,
    }
    return app, happens
