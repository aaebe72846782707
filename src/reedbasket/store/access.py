"""Who may come in: tokens, users, one-use sign-in codes and console sessions. Only hashes are kept."""

from __future__ import annotations

import base64
import hashlib
import hmac
import os
import secrets
import threading
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from ..core.errors import Conflict, NotFound, ReedError
from .database import Store, now_text, text_of

TOKEN_FILE = "token"
CODE_MINUTES = 60
SESSION_DAYS = 7
Role = Literal["viewer", "operator", "editor", "admin"]
# Each may do what those before it may.
ROLES: tuple[Role, ...] = ("viewer", "operator", "editor", "admin")
LOCAL = "local command line"
# RFC 7914's costs for signing in, 2017's values of the paper times two: 32 MB and a tenth of a second here.
_SCRYPT = {"n": 2**15, "r": 8, "p": 1}
# Whoever tries sixteen passwords at once is not to be given half a gigabyte for it.
_FEW_AT_ONCE = threading.Semaphore(2)
_USED_EVERY = timedelta(minutes=1)


@dataclass(frozen=True)
class Caller:
    """Who asks, by what name they are noted, and what they may do. user: signed in with a name of their own."""

    name: str
    role: Role
    user: str | None = None

    def may(self, role: Role) -> bool:
        return ROLES.index(self.role) >= ROLES.index(role)


class BadPassword(ReedError):
    code = "access.bad_password"


def _hash(text: str) -> str:
    # Tokens are 256 random bits, so a plain hash is enough; a slow one is for what people choose themselves.
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def _later(delta: timedelta) -> str:
    return text_of(datetime.now(UTC) + delta)


# Tokens


def make_token(store: Store, label: str, role: Role = "admin", *, made_by: str = "", days: int | None = None) -> str:
    """A new bearer token; shown once, here."""
    token = "reed_" + secrets.token_urlsafe(32)
    ends_at = _later(timedelta(days=days)) if days is not None else None
    with store.transaction() as connection:
        connection.execute(
            "insert into token (hash, label, created_at, role, made_by, ends_at) values (?, ?, ?, ?, ?, ?)",
            (_hash(token), label, now_text(), role, made_by, ends_at),
        )
    return token


def ensure_local_token(store: Store) -> str:
    """The token of this machine's command line, in a file of mode 0600 in the data folder."""
    path = store.folder / TOKEN_FILE
    if path.exists():
        token = path.read_text().strip()
        if caller_of_token(store, token) is not None:
            return token
        path.unlink()
    token = make_token(store, LOCAL)
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
        file.write(token + "\n")
    return token


def caller_of_token(store: Store, token: str) -> Caller | None:
    row = store.connection.execute(
        "select label, role, used_at from token where hash = ? and (ends_at is null or ends_at > ?)", (_hash(token), now_text())
    ).fetchone()
    if row is None:
        return None
    if row["used_at"] is None or row["used_at"] < text_of(datetime.now(UTC) - _USED_EVERY):
        with store.transaction() as connection:
            connection.execute("update token set used_at = ? where hash = ?", (now_text(), _hash(token)))
    return Caller(row["label"], row["role"])


def list_tokens(store: Store) -> list[dict[str, Any]]:
    """[{id, label, role, made_by, created_at, ends_at, used_at}]; id: the beginning of the hash."""
    return [
        dict(row)
        for row in store.connection.execute(
            "select substr(hash, 1, 12) as id, label, role, made_by, created_at, ends_at, used_at from token order by created_at"
        )
    ]


def remove_token(store: Store, token: str) -> None:
    """token: its id. Raises NotFound."""
    with store.transaction() as connection:
        if connection.execute("delete from token where substr(hash, 1, 12) = ?", (token,)).rowcount == 0:
            raise NotFound("removing the token", token, found="no token of that id", mend="see `reed token list`")


# Users


def add_user(store: Store, name: str, role: Role, password: str | None = None) -> None:
    """Raises Conflict where there is one of that name, BadPassword."""
    made = _scrypt(password) if password is not None else None
    with store.transaction() as connection:
        done = connection.execute(
            "insert into user (name, role, password, created_at) values (?, ?, ?, ?) on conflict (name) do nothing",
            (name, role, made, now_text()),
        )
        if done.rowcount == 0:
            raise Conflict(
                "adding the user", name, found="there is one of that name", mend="take another name", code="user.exists"
            )


def list_users(store: Store) -> list[dict[str, Any]]:
    rows = store.connection.execute(
        "select name, role, created_at, disabled, password is not null as has_password from user order by name"
    )
    return [{**dict(r), "disabled": bool(r["disabled"]), "has_password": bool(r["has_password"])} for r in rows]


def change_user(
    store: Store, name: str, *, role: Role | None = None, password: str | None = None, disabled: bool | None = None
) -> None:
    """Another password, or being disabled, ends the user's sessions. Raises NotFound, BadPassword."""
    made = _scrypt(password) if password is not None else None
    with store.transaction() as connection:
        done = connection.execute(
            """update user set role = coalesce(?, role), password = coalesce(?, password), disabled = coalesce(?, disabled)
               where name = ?""",
            (role, made, disabled, name),
        )
        if done.rowcount == 0:
            raise _no_user(name)
        if made is not None or disabled:
            connection.execute("delete from console_session where user = ?", (name,))


def remove_user(store: Store, name: str) -> None:
    """Raises NotFound."""
    with store.transaction() as connection:
        if connection.execute("delete from user where name = ?", (name,)).rowcount == 0:
            raise _no_user(name)


def check_password(store: Store, name: str, password: str) -> bool:
    """Takes as long for a name that is not there: how long it took tells nobody who is."""
    row = store.connection.execute("select password from user where name = ? and not disabled", (name,)).fetchone()
    kept = row["password"] if row is not None and row["password"] else _NOBODY
    _, salt, digest = kept.split("$")
    found = _digest(password, base64.b64decode(salt))
    return hmac.compare_digest(found, base64.b64decode(digest)) and kept is not _NOBODY


def _scrypt(password: str) -> str:
    if len(password) < 10:
        raise BadPassword(
            "keeping the password", found="it is shorter than ten characters", mend="take a longer one, of several words"
        )
    salt = os.urandom(16)
    return "$".join(["scrypt", base64.b64encode(salt).decode(), base64.b64encode(_digest(password, salt)).decode()])


def _digest(password: str, salt: bytes) -> bytes:
    with _FEW_AT_ONCE:
        return hashlib.scrypt(password.encode("utf-8", "surrogatepass"), salt=salt, maxmem=64 * 1024 * 1024, **_SCRYPT)


_NOBODY = "$".join(["scrypt", base64.b64encode(bytes(16)).decode(), base64.b64encode(bytes(64)).decode()])


def _no_user(name: str) -> NotFound:
    return NotFound(
        "looking up the user", name, found="no user of that name", mend="see `reed user list`", code="user.not_found"
    )


# Codes and sessions


def make_code(store: Store, user: str | None = None) -> str:
    """A sign-in code, good once and for an hour. user: whom it signs in; who holds this machine's token where nobody is named."""
    code = secrets.token_urlsafe(24)
    with store.transaction() as connection:
        connection.execute("delete from sign_in_code where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into sign_in_code (hash, ends_at, user) values (?, ?, ?)",
            (_hash(code), _later(timedelta(minutes=CODE_MINUTES)), user),
        )
    return code


def use_code(store: Store, code: str) -> str | None:
    """A new session for a code that is good, else None. The code is spent."""
    with store.transaction() as connection:
        spent = connection.execute(
            "delete from sign_in_code where hash = ? and ends_at >= ? returning user", (_hash(code), now_text())
        ).fetchall()
    return begin_session(store, spent[0]["user"]) if spent else None


def begin_session(store: Store, user: str | None) -> str:
    session = secrets.token_urlsafe(32)
    with store.transaction() as connection:
        connection.execute("delete from console_session where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into console_session (hash, ends_at, user) values (?, ?, ?)",
            (_hash(session), _later(timedelta(days=SESSION_DAYS)), user),
        )
    return session


def caller_of_session(store: Store, session: str) -> Caller | None:
    row = store.connection.execute(
        """select s.user, u.role, u.disabled from console_session as s left join user as u on u.name = s.user
           where s.hash = ? and s.ends_at >= ?""",
        (_hash(session), now_text()),
    ).fetchone()
    if row is None or row["disabled"]:
        return None
    if row["user"] is None:
        return Caller(LOCAL, "admin")
    return Caller(row["user"], row["role"], row["user"])


def end_session(store: Store, session: str) -> None:
    with store.transaction() as connection:
        connection.execute("delete from console_session where hash = ?", (_hash(session),))


# Who did what


def note(store: Store, who: str, what: str, on: str, status: int, details: str = "") -> None:
    with store.transaction() as connection:
        connection.execute(
            'insert into audit (at, who, what, "on", status, details) values (?, ?, ?, ?, ?, ?)',
            (now_text(), who, what, on, status, details),
        )


def read_audit(store: Store, *, before: int | None = None, limit: int = 100) -> Iterable[dict[str, Any]]:
    """The latest first (wire.AuditLine)."""
    rows = store.connection.execute(
        'select id, at, who, what, "on", status, details from audit where id < ? order by id desc limit ?',
        (before or 2**62, limit),
    )
    return [dict(row) for row in rows]
