"""Access tokens, encrypted and shared by all processes, and people on their way to sign in at a source."""

from __future__ import annotations

import hashlib
import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any

import orjson
from typing_extensions import override

from ..core.errors import NotFound
from ..core.sources.http.oauth import PendingSignIn, Token, Vault
from ..core.sources.pacer import wait_or_stop
from . import secrets
from .database import Store, now_text
from .pace import process_lives

# A fetch that takes longer is believed to be dead; another one may then begin beside it, which costs a request.
_FETCH_SECONDS = 120.0
_LOOK_AGAIN_SECONDS = 0.05
# People have this long to sign in.
_ERRAND_MINUTES = 15


class StoreVault(Vault):
    """See core.sources.http.oauth.Vault. A token with another fingerprint does not count."""

    def __init__(self, store: Store, source: str, fingerprint: str) -> None:
        self._store = store
        self._source = source
        self._fingerprint = fingerprint

    @override
    def token(self) -> Token | None:
        row = self._store.connection.execute(
            "select sealed from access_token where source = ? and fingerprint = ?", (self._source, self._fingerprint)
        ).fetchone()
        return Token(**_open(self._store, row["sealed"])) if row else None

    @override
    def keep(self, token: Token) -> None:
        sealed = secrets.seal(self._store, orjson.dumps(asdict(token)))
        with self._store.transaction() as connection:
            connection.execute(
                """insert into access_token (source, fingerprint, sealed) values (?, ?, ?)
                   on conflict (source) do update set fingerprint = excluded.fingerprint, sealed = excluded.sealed""",
                (self._source, self._fingerprint, sealed),
            )

    @contextmanager
    @override
    def alone(self, stop: threading.Event) -> Iterator[None]:
        while not self._begin():
            wait_or_stop(stop, _LOOK_AGAIN_SECONDS, "waiting for an access token")
        try:
            yield
        finally:
            with self._store.transaction() as connection:
                connection.execute("delete from token_errand where source = ? and worker = ?", (self._source, os.getpid()))

    def _begin(self) -> bool:
        with self._store.transaction() as connection:
            row = connection.execute("select worker, ends_at from token_errand where source = ?", (self._source,)).fetchone()
            if row is not None and row["ends_at"] > time.time() and process_lives(row["worker"]):
                return False
            connection.execute(
                """insert into token_errand (source, worker, ends_at) values (?, ?, ?)
                   on conflict (source) do update set worker = excluded.worker, ends_at = excluded.ends_at""",
                (self._source, os.getpid(), time.time() + _FETCH_SECONDS),
            )
            return True


def save_sign_in(store: Store, source: str, errand: PendingSignIn, back: str) -> None:
    """Save what is needed when a person comes back from signing in at a source."""
    sealed = secrets.seal(store, orjson.dumps({"verifier": errand.verifier, "back": back}))
    ends = (datetime.now(UTC) + timedelta(minutes=_ERRAND_MINUTES)).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    with store.transaction() as connection:
        connection.execute("delete from sign_in_errand where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into sign_in_errand (state, source, sealed, ends_at) values (?, ?, ?, ?)",
            (_digest(errand.state), source, sealed, ends),
        )


def take_sign_in(store: Store, state: str) -> tuple[str, str, str]:
    """(source, verifier, our address to which the person is sent back), once.

    Raises:
        NotFound: no such sign-in has begun.
    """
    with store.transaction() as connection:
        row = connection.execute(
            "delete from sign_in_errand where state = ? and ends_at >= ? returning source, sealed", (_digest(state), now_text())
        ).fetchone()
    if row is None:
        raise NotFound(
            "coming back from signing in",
            found="no sign-in is in progress, or it has expired",
            fix="start from the source's page in the console, and finish within 15 minutes",
            code="source.sign_in_expired",
        )
    facts = _open(store, row["sealed"])
    return row["source"], facts["verifier"], facts["back"]


def _open(store: Store, sealed: bytes) -> dict[str, Any]:
    found: dict[str, Any] = orjson.loads(secrets.unseal(store, sealed))
    return found


def _digest(state: str) -> str:
    return hashlib.sha256(state.encode()).hexdigest()
