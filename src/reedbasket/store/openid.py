"""Sign-ins by OpenID Connect: those that have begun, and the people whom the provider knows."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from ..core.errors import Conflict
from .access import Role
from .database import Store, now_text, text_of

MINUTES = 10
# Nobody signs in by so many tabs; whoever only begins fills no disk.
_MOST_BEGUN = 10_000


@dataclass(frozen=True)
class Begun:
    """A sign-in that has begun: `state` comes back in the address, `nonce` in the token, `verifier` is for PKCE (RFC 7636)."""

    state: str
    nonce: str
    verifier: str


def begin(store: Store) -> Begun:
    """Begin a sign-in."""
    made = Begun(secrets.token_urlsafe(32), secrets.token_urlsafe(32), secrets.token_urlsafe(48))
    with store.transaction() as connection:
        connection.execute(
            """delete from openid_sign_in where ends_at < ? or state in
               (select state from openid_sign_in order by ends_at desc limit -1 offset ?)""",
            (now_text(), _MOST_BEGUN - 1),
        )
        connection.execute(
            "insert into openid_sign_in (state, nonce, verifier, ends_at) values (?, ?, ?, ?)",
            (_hash(made.state), made.nonce, made.verifier, text_of(datetime.now(UTC) + timedelta(minutes=MINUTES))),
        )
    return made


def take(store: Store, state: str) -> Begun | None:
    """The sign-in of a state, once; None if there is none, or it has expired."""
    with store.transaction() as connection:
        found = connection.execute(
            "delete from openid_sign_in where state = ? returning nonce, verifier, ends_at", (_hash(state),)
        ).fetchall()
    if not found or found[0]["ends_at"] < now_text():
        return None
    return Begun(state, found[0]["nonce"], found[0]["verifier"])


def signed_in(store: Store, subject: str, name: str, role: Role) -> str | None:
    """The user of a subject, with the role that the provider gives; created if there is none.

    Args:
        subject: issuer, a space, and the provider's own id for them, which never changes.
        name: for a new user.

    Returns:
        Their name here; None if they are disabled.

    Raises:
        Conflict: somebody else has the name.
    """
    with store.transaction() as connection:
        row = connection.execute("select name, disabled from user where subject = ?", (subject,)).fetchone()
        if row is not None:
            connection.execute("update user set role = ? where subject = ?", (role, subject))
            return None if row["disabled"] else str(row["name"])
        done = connection.execute(
            "insert into user (name, role, created_at, subject) values (?, ?, ?, ?) on conflict (name) do nothing",
            (name, role, now_text(), subject),
        )
        if done.rowcount == 0:
            raise Conflict(
                "signing in",
                name,
                found="there already is a user of that name, who is not linked to this account",
                fix="ask an admin to remove that user, or use another claim with --openid-name",
                code="user.exists",
            )
    return name


def without_role(store: Store, subject: str) -> None:
    """A person has no role any more: end their sessions. They can sign in again once they have one."""
    with store.transaction() as connection:
        connection.execute("delete from console_session where user = (select name from user where subject = ?)", (subject,))


def _hash(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()
