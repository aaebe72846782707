"""Secrets, encrypted at rest with Fernet. Reading one is a call of its own, so that it can be searched for."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from ..core.errors import NotFound, SecretMissing
from .database import Store, StoreError, now_text

KEY_VARIABLE = "REED_KEY"
KEY_FILE = "key"


def _fernet(folder: Path) -> Fernet:
    """From the environment, else the key file, made with mode 0600 where there is none. Raises StoreError."""
    key = os.environ.get(KEY_VARIABLE, "").encode()
    path = folder / KEY_FILE
    if not key:
        if not path.exists():
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "wb") as file:
                file.write(Fernet.generate_key())
        key = path.read_bytes().strip()
    try:
        return Fernet(key)
    except ValueError as error:
        where = KEY_VARIABLE if os.environ.get(KEY_VARIABLE) else str(path)
        raise StoreError(
            "reading the key that secrets are sealed with",
            where,
            found="it is no Fernet key",
            mend="put the right key back",
            code="secret.bad_key",
        ) from error


def set_secret(store: Store, name: str, value: str) -> None:
    sealed = _fernet(store.folder).encrypt(value.encode())
    with store.transaction() as connection:
        connection.execute(
            """insert into secret (name, sealed, changed_at) values (?, ?, ?)
               on conflict (name) do update set sealed = excluded.sealed, changed_at = excluded.changed_at""",
            (name, sealed, now_text()),
        )


def reveal_secret(store: Store, name: str) -> str:
    """The value. Raises SecretMissing; StoreError where the key does not open it."""
    row = store.connection.execute("select sealed from secret where name = ?", (name,)).fetchone()
    if row is None:
        raise SecretMissing(
            "looking up the secret", name, found="no secret of that name", mend=f"set it with `reed secret set {name}`"
        )
    try:
        return _fernet(store.folder).decrypt(row["sealed"]).decode()
    except InvalidToken as error:
        raise StoreError(
            "opening the secret",
            name,
            found="the key does not fit",
            mend="put the key back that it was sealed with, or set it anew",
            code="secret.bad_key",
        ) from error


def seal(store: Store, value: bytes) -> bytes:
    """For what else must not lie about in plain text."""
    return _fernet(store.folder).encrypt(value)


def unseal(store: Store, sealed: bytes) -> bytes:
    """Raises StoreError where the key does not fit."""
    try:
        return _fernet(store.folder).decrypt(sealed)
    except InvalidToken as error:
        raise StoreError(
            "opening what is sealed in",
            str(store.path),
            found="the key does not fit",
            mend="put the key back that it was sealed with, or sign in at the source anew",
            code="secret.bad_key",
        ) from error


# What keys hashed columns, where a feed names no other: the service makes it by itself.
COLUMN_HASH = "column-hash"


def reveal(store: Store, name: str) -> str:
    """As `reveal_secret`; the key that only hashes columns is made, at random, where nobody set it."""
    if name == COLUMN_HASH:
        _make_if_missing(store, name)
    return reveal_secret(store, name)


def _make_if_missing(store: Store, name: str) -> None:
    made = secrets.token_urlsafe(32)
    with store.transaction() as connection:
        connection.execute(
            "insert into secret (name, sealed, changed_at) values (?, ?, ?) on conflict (name) do nothing",
            (name, _fernet(store.folder).encrypt(made.encode()), now_text()),
        )


def list_secrets(store: Store) -> list[dict[str, str]]:
    """[{name, changed_at}]; never a value."""
    return [dict(r) for r in store.connection.execute("select name, changed_at from secret order by name")]


def remove_secret(store: Store, name: str) -> None:
    """Raises NotFound."""
    with store.transaction() as connection:
        if connection.execute("delete from secret where name = ?", (name,)).rowcount == 0:
            raise NotFound(
                "removing the secret",
                name,
                found="no secret of that name",
                mend="see `reed secret list`",
                code="secret.not_found",
            )
