"""Tokens, one-use sign-in codes and console sessions. Only hashes are kept."""

from __future__ import annotations

import hashlib
import os
import secrets
from datetime import UTC, datetime, timedelta

from .database import Store, now_text

TOKEN_FILE = "token"
CODE_MINUTES = 60
SESSION_DAYS = 7


def _hash(text: str) -> str:
    # Tokens are 256 random bits, so a plain hash is enough; a slow one is for what people choose themselves.
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def _later(delta: timedelta) -> str:
    return (datetime.now(UTC) + delta).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def make_token(store: Store, label: str) -> str:
    """A new bearer token; shown once, here."""
    token = "reed_" + secrets.token_urlsafe(32)
    with store.transaction() as connection:
        connection.execute("insert into token (hash, label, created_at) values (?, ?, ?)", (_hash(token), label, now_text()))
    return token


def ensure_local_token(store: Store) -> str:
    """The token of this machine's command line, in a file of mode 0600 in the data folder."""
    path = store.folder / TOKEN_FILE
    if path.exists():
        token = path.read_text().strip()
        if token_known(store, token):
            return token
        path.unlink()
    token = make_token(store, "local command line")
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
        file.write(token + "\n")
    return token


def token_known(store: Store, token: str) -> bool:
    row = store.connection.execute("select 1 from token where hash = ?", (_hash(token),)).fetchone()
    return row is not None


def make_code(store: Store) -> str:
    """A sign-in code, good once and for an hour."""
    code = secrets.token_urlsafe(24)
    with store.transaction() as connection:
        connection.execute("delete from sign_in_code where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into sign_in_code (hash, ends_at) values (?, ?)",
            (_hash(code), _later(timedelta(minutes=CODE_MINUTES))),
        )
    return code


def use_code(store: Store, code: str) -> str | None:
    """A new session for a code that is good, else None. The code is spent."""
    session = secrets.token_urlsafe(32)
    with store.transaction() as connection:
        spent = connection.execute("delete from sign_in_code where hash = ? and ends_at >= ?", (_hash(code), now_text()))
        if spent.rowcount != 1:
            return None
        connection.execute("delete from console_session where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into console_session (hash, ends_at) values (?, ?)",
            (_hash(session), _later(timedelta(days=SESSION_DAYS))),
        )
    return session


def session_known(store: Store, session: str) -> bool:
    row = store.connection.execute(
        "select 1 from console_session where hash = ? and ends_at >= ?", (_hash(session), now_text())
    ).fetchone()
    return row is not None


def end_session(store: Store, session: str) -> None:
    with store.transaction() as connection:
        connection.execute("delete from console_session where hash = ?", (_hash(session),))
