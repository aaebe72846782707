"""Access: tokens, users, one-time sign-in codes and console sessions. Only hashes are stored."""

from __future__ import annotations

import base64
import hashlib
import hmac
import os
import secrets
import threading
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Literal

from .. import wire
from ..core.errors import Conflict, NotFound, ReedError
from ..wire.typed import typed
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
# Passwords that so many guesses find are refused: zxcvbn's line between what is guessed online and what is not.
_FEW_GUESSES = 10**8


@dataclass(frozen=True)
class Caller:
    """Who makes a call, under which name it is recorded, and what they may do.

    Attributes:
        user: they signed in as this user.
        token: the hash of the token that they used, or that created the link they used.
    """

    name: str
    role: Role
    user: str | None = None
    token: str | None = field(default=None, compare=False)

    def may(self, role: Role) -> bool:
        """Whether they have a role, or a higher one."""
        return ROLES.index(self.role) >= ROLES.index(role)


class BadPassword(ReedError):
    """A password that is too short, too common or too similar to the name."""

    code = "access.bad_password"


def _hash(text: str) -> str:
    # Tokens are 256 random bits, so a plain hash is enough; a slow one is for what people choose themselves.
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def _later(delta: timedelta) -> str:
    return text_of(datetime.now(UTC) + delta)


# Tokens


def make_token(store: Store, label: str, role: Role = "admin", *, maker: Caller | None = None, days: int | None = None) -> str:
    """A new bearer token; it is shown once, here.

    Args:
        maker: who makes it: it ends with them, and has no more rights than they have. None: this machine.
        days: after which it expires; None for never.
    """
    token = "reed_" + secrets.token_urlsafe(32)
    ends_at = _later(timedelta(days=days)) if days is not None else None
    made_by, user, parent = (maker.name, maker.user, maker.token) if maker else ("", None, None)
    with store.transaction() as connection:
        if connection.execute("select 1 from token where hash = ? and made_by = ''", (parent,)).fetchone():
            parent = None  # this machine's, which is made anew at need
        connection.execute(
            "insert into token (hash, label, created_at, role, made_by, ends_at, user, parent) values (?, ?, ?, ?, ?, ?, ?, ?)",
            (_hash(token), label, now_text(), role, made_by, ends_at, user, parent),
        )
    return token


def ensure_local_token(store: Store) -> str:
    """The token for this machine's command line, in a file of mode 0600 in the data folder."""
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
    """Who calls with a token; None if the token is not valid."""
    found, used_at = _caller_by_hash(store, _hash(token))
    if found is not None and (used_at is None or used_at < text_of(datetime.now(UTC) - _USED_EVERY)):
        with store.transaction() as connection:
            connection.execute("update token set used_at = ? where hash = ?", (now_text(), found.token))
    return found


def _caller_by_hash(store: Store, hashed: str) -> tuple[Caller | None, str | None]:
    """The caller with the least of its makers' rights, and when the token was last used; None if one of the makers has no rights any
    more.
    """
    rows = store.connection.execute(
        """with recursive line as (
               select hash, label, role, user, parent, ends_at, used_at, 0 as above from token where hash = ?
               union all
               select t.hash, t.label, t.role, t.user, t.parent, t.ends_at, t.used_at, l.above + 1
               from token as t join line as l on t.hash = l.parent)
           select l.label, l.role, l.ends_at, l.used_at, u.role as user_role, u.disabled from line as l
           left join user as u on u.name = l.user order by l.above""",
        (hashed,),
    ).fetchall()
    now = now_text()
    if not rows or any((row["ends_at"] is not None and row["ends_at"] <= now) or row["disabled"] for row in rows):
        return None, None
    rights = [row["role"] for row in rows] + [row["user_role"] for row in rows if row["user_role"] is not None]
    return Caller(rows[0]["label"], min(rights, key=ROLES.index), token=hashed), rows[0]["used_at"]


def list_tokens(store: Store) -> list[wire.Token]:
    """All tokens; `id` is the beginning of the hash."""
    return [
        typed(wire.Token, row)
        for row in store.connection.execute(
            "select substr(hash, 1, 12) as id, label, role, made_by, created_at, ends_at, used_at from token order by created_at"
        )
    ]


def remove_token(store: Store, token: str) -> None:
    """Remove a token.

    Args:
        token: its id.

    Raises:
        NotFound: there is none.
    """
    with store.transaction() as connection:
        if connection.execute("delete from token where substr(hash, 1, 12) = ?", (token,)).rowcount == 0:
            raise NotFound("removing the token", token, found="no token of that id", fix="see `reed tokens`")


# Users


def add_user(store: Store, name: str, role: Role, password: str | None = None) -> None:
    """Add a user.

    Raises:
        Conflict: there already is one of that name.
        BadPassword: the password is not good enough.
    """
    made = _scrypt(name, password) if password is not None else None
    with store.transaction() as connection:
        done = connection.execute(
            "insert into user (name, role, password, created_at) values (?, ?, ?, ?) on conflict (name) do nothing",
            (name, role, made, now_text()),
        )
        if done.rowcount == 0:
            raise Conflict(
                "adding the user",
                name,
                found="there already is one of that name",
                fix="choose another name",
                code="user.exists",
            )


def list_users(store: Store) -> list[wire.User]:
    """All users, by name."""
    rows = store.connection.execute(
        """select name, role, created_at, disabled, password is not null as has_password, subject is not null as openid
           from user order by name"""
    )
    flags = ("disabled", "has_password", "openid")
    return [typed(wire.User, r, **{name: bool(r[name]) for name in flags}) for r in rows]


def change_user(
    store: Store, name: str, *, role: Role | None = None, password: str | None = None, disabled: bool | None = None
) -> None:
    """Change a user. A new password, or disabling the user, ends their sessions.

    Raises:
        NotFound: there is no such user.
        BadPassword: the password is not good enough.
    """
    made = _scrypt(name, password) if password is not None else None
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
    """Remove a user.

    Raises:
        NotFound: there is none of that name.
    """
    with store.transaction() as connection:
        if connection.execute("delete from user where name = ?", (name,)).rowcount == 0:
            raise _no_user(name)


def check_password(store: Store, name: str, password: str) -> bool:
    """Whether a password is right. It takes as long for an unknown name, so that the time does not tell who exists."""
    row = store.connection.execute("select password from user where name = ? and not disabled", (name,)).fetchone()
    kept = row["password"] if row is not None and row["password"] else _NOBODY
    _, salt, digest = kept.split("$")
    found = _digest(password, base64.b64decode(salt))
    return hmac.compare_digest(found, base64.b64decode(digest)) and kept is not _NOBODY


def _scrypt(name: str, password: str) -> str:
    if len(password) < 10:
        raise BadPassword(
            "setting the password", found="it has fewer than ten characters", fix="use a longer one, for example several words"
        )
    from zxcvbn import zxcvbn  # its lists take a quarter of a second to read

    # NIST SP 800-63B, 5.1.1.2: what is common, or made of the name, is refused. Beyond a hundred letters nothing more is looked at.
    if zxcvbn(password[:100], user_inputs=[name, "reed", "basket", "reedbasket"], max_length=100)["guesses"] < _FEW_GUESSES:
        raise BadPassword(
            "setting the password",
            found="it is common or derived from the name, so it is easy to guess",
            fix="use several unrelated words",
        )
    salt = os.urandom(16)
    return "$".join(["scrypt", base64.b64encode(salt).decode(), base64.b64encode(_digest(password, salt)).decode()])


def _digest(password: str, salt: bytes) -> bytes:
    with _FEW_AT_ONCE:
        return hashlib.scrypt(password.encode("utf-8", "surrogatepass"), salt=salt, maxmem=64 * 1024 * 1024, **_SCRYPT)


_NOBODY = "$".join(["scrypt", base64.b64encode(bytes(16)).decode(), base64.b64encode(bytes(64)).decode()])


def _no_user(name: str) -> NotFound:
    return NotFound("looking up the user", name, found="no user of that name", fix="see `reed users`", code="user.not_found")


# Codes and sessions


def make_code(store: Store, maker: Caller | None = None) -> str:
    """A sign-in code that works once, within an hour.

    Args:
        maker: whom it signs in; None for the holder of this machine's token.
    """
    code = secrets.token_urlsafe(24)
    with store.transaction() as connection:
        connection.execute("delete from sign_in_code where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into sign_in_code (hash, ends_at, user, token) values (?, ?, ?, ?)",
            (
                _hash(code),
                _later(timedelta(minutes=CODE_MINUTES)),
                maker.user if maker else None,
                maker.token if maker and not maker.user else None,
            ),
        )
    return code


def use_code(store: Store, code: str) -> str | None:
    """A new session for a valid code, which is then used up; None if it is not valid."""
    with store.transaction() as connection:
        spent = connection.execute(
            "delete from sign_in_code where hash = ? and ends_at >= ? returning user, token", (_hash(code), now_text())
        ).fetchall()
    return begin_session(store, spent[0]["user"], token=spent[0]["token"]) if spent else None


def begin_session(
    store: Store, user: str | None, *, token: str | None = None, lasts: timedelta = timedelta(days=SESSION_DAYS)
) -> str:
    """Begin a session.

    Args:
        token: the hash of the token whose link was used; the session ends with it.
    """
    session = secrets.token_urlsafe(32)
    with store.transaction() as connection:
        connection.execute("delete from console_session where ends_at < ?", (now_text(),))
        connection.execute(
            "insert into console_session (hash, ends_at, user, token) values (?, ?, ?, ?)",
            (_hash(session), _later(lasts), user, token),
        )
    return session


def caller_of_session(store: Store, session: str) -> Caller | None:
    """Whose session it is; None if it has ended."""
    row = store.connection.execute(
        """select s.user, s.token, u.role, u.disabled from console_session as s left join user as u on u.name = s.user
           where s.hash = ? and s.ends_at >= ?""",
        (_hash(session), now_text()),
    ).fetchone()
    if row is None or row["disabled"]:
        return None
    if row["token"] is not None:
        return _caller_by_hash(store, row["token"])[0]
    if row["user"] is None:
        return Caller(LOCAL, "admin")
    return Caller(row["user"], row["role"], row["user"])


def end_session(store: Store, session: str) -> None:
    """Sign out."""
    with store.transaction() as connection:
        connection.execute("delete from console_session where hash = ?", (_hash(session),))


# Who did what


def note(store: Store, who: str, what: str, on: str, status: int, details: str = "") -> None:
    """Add a line to the audit log."""
    with store.transaction() as connection:
        connection.execute(
            'insert into audit (at, who, what, "on", status, details) values (?, ?, ?, ?, ?, ?)',
            (now_text(), who, what, on, status, details),
        )


def read_audit(store: Store, *, before: int | None = None, limit: int = 100) -> list[wire.AuditLine]:
    """The audit log, the latest first."""
    rows = store.connection.execute(
        'select id, at, who, what, "on", status, details from audit where id < ? order by id desc limit ?',
        (before or 2**62, limit),
    )
    return [typed(wire.AuditLine, row) for row in rows]
