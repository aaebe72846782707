"""Secrets, encrypted at rest with Fernet. Only one function reveals them, so that its callers can be found."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

from .. import wire
from ..core.errors import Conflict, NotFound, SecretMissing
from ..wire.typed import typed
from .database import Store, StoreError, now_text

KEY_VARIABLE = "REED_KEY"
KEY_FILE = "key"
# A secret may stand outside of the store: in an environment variable of its name, or a file of its name in a folder.
PREFIX = "REED_SECRET_"
FOLDER_VARIABLE = "REED_SECRETS"


def _keys(folder: Path) -> list[bytes]:
    """The keys, the newest first: from the environment, separated by commas, otherwise from the key file, one on each line. The file is
    created, with mode 0600, if there is none.
    """
    given = os.environ.get(KEY_VARIABLE, "")
    if given:
        return [key.strip().encode() for key in given.split(",") if key.strip()]
    path = folder / KEY_FILE
    if not path.exists():
        _write_keys(path, [Fernet.generate_key()])
    return path.read_bytes().split()


def _write_keys(path: Path, keys: list[bytes]) -> None:
    """In place of what is there, whole or not at all."""
    beside = path.with_name(path.name + ".new")
    beside.unlink(missing_ok=True)
    with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(b"\n".join(keys) + b"\n")
        file.flush()
        os.fsync(file.fileno())
    beside.replace(path)


def _fernet(folder: Path) -> MultiFernet:
    """Seals with the newest key, opens with any. Raises StoreError."""
    try:
        return MultiFernet([Fernet(key) for key in _keys(folder)])
    except ValueError as error:
        where = KEY_VARIABLE if os.environ.get(KEY_VARIABLE) else str(folder / KEY_FILE)
        raise StoreError(
            "reading the key that secrets are encrypted with",
            where,
            found="it is not a Fernet key",
            fix="restore the right key",
            code="secret.bad_key",
        ) from error


def rotate(store: Store) -> int:
    """Encrypt everything with a new key. Returns how many secrets there are. With a key file, the key is created here, and the old one
    is removed at the end; with REED_KEY, the operator has put a new one before the old one. It may be interrupted at any point:
    until the end both keys are there.

    Raises:
        Conflict: REED_KEY contains only one key.
        StoreError: a secret cannot be decrypted.
    """
    own = not os.environ.get(KEY_VARIABLE)
    path, keys = store.folder / KEY_FILE, _keys(store.folder)
    if own:
        keys = [Fernet.generate_key(), *keys]
        _write_keys(path, keys)
    elif len(keys) < 2:
        raise Conflict(
            "rotating the key",
            KEY_VARIABLE,
            found="it contains only one key",
            fix="start the service with the new key before the old one, separated by a comma, and then rotate",
            code="secret.both_keys_needed",
        )
    box, count = _fernet(store.folder), 0
    with store.transaction() as connection:
        for table in ("secret", "access_token", "sign_in_errand"):
            for row in connection.execute(f"select rowid as at_row, sealed from {table}").fetchall():
                try:
                    sealed = box.rotate(row["sealed"])
                except InvalidToken as error:
                    raise StoreError(
                        "rotating the key",
                        table,
                        found="something is encrypted with another key",
                        fix="restore that key too, or remove what it encrypted",
                        code="secret.bad_key",
                    ) from error
                connection.execute(f"update {table} set sealed = ? where rowid = ?", (sealed, row["at_row"]))
                count += 1
    if own:
        _write_keys(path, keys[:1])
    return count


def set_secret(store: Store, name: str, value: str) -> None:
    """Set a secret.

    Raises:
        Conflict: the environment provides it, and would override it.
    """
    outside = _outside().get(name)
    if outside is not None:
        raise Conflict(
            "setting the secret",
            name,
            found=f"it comes from the service's {outside[0]}",
            fix="change it there",
            code="secret.external",
        )
    sealed = _fernet(store.folder).encrypt(value.encode())
    with store.transaction() as connection:
        connection.execute(
            """insert into secret (name, sealed, changed_at) values (?, ?, ?)
               on conflict (name) do update set sealed = excluded.sealed, changed_at = excluded.changed_at""",
            (name, sealed, now_text()),
        )


def _outside() -> dict[str, tuple[str, Path | None]]:
    """{name: (where, its file)} of secrets that the environment provides: REED_SECRET_HARBOUR_TOKEN, or the file harbour_token."""
    found: dict[str, tuple[str, Path | None]] = {}
    folder = os.environ.get(FOLDER_VARIABLE)
    if folder and Path(folder).is_dir():
        found |= {
            path.name: ("file", path) for path in Path(folder).iterdir() if path.is_file() and not path.name.startswith(".")
        }
    return found | {name.removeprefix(PREFIX).lower(): ("environment", None) for name in os.environ if name.startswith(PREFIX)}


def reveal_secret(store: Store, name: str) -> str:
    """The value of a secret.

    Raises:
        SecretMissing: there is none of that name.
        StoreError: the key cannot decrypt it.
    """
    outside = _outside()
    # In a name that a variable may have there are no hyphens.
    where, path = outside.get(name) or outside.get(name.replace("-", "_")) or ("", None)
    if where == "environment":
        return os.environ.get(PREFIX + name.replace("-", "_").upper(), "")
    if path is not None:
        return path.read_text("utf-8").rstrip("\n")
    row = store.connection.execute("select sealed from secret where name = ?", (name,)).fetchone()
    if row is None:
        raise SecretMissing(
            "looking up the secret", name, found="no secret of that name", fix=f"set it with `reed secret set {name}`"
        )
    try:
        return _fernet(store.folder).decrypt(row["sealed"]).decode()
    except InvalidToken as error:
        raise StoreError(
            "decrypting the secret",
            name,
            found="the key does not fit",
            fix="restore the key that it was encrypted with, or set the secret again",
            code="secret.bad_key",
        ) from error


def seal(store: Store, value: bytes) -> bytes:
    """Encrypt anything else that must not be stored in plain text."""
    return _fernet(store.folder).encrypt(value)


def unseal(store: Store, sealed: bytes) -> bytes:
    """Decrypt it.

    Raises:
        StoreError: the key does not fit.
    """
    try:
        return _fernet(store.folder).decrypt(sealed)
    except InvalidToken as error:
        raise StoreError(
            "decrypting what is stored in",
            str(store.path),
            found="the key does not fit",
            fix="restore the key that it was encrypted with, or sign in at the source again",
            code="secret.bad_key",
        ) from error


# What keys hashed columns, where a feed names no other: the service makes it by itself.
COLUMN_HASH = "column-hash"


def reveal(store: Store, name: str) -> str:
    """Like `reveal_secret`, but the key that only hashes columns is created at random if nobody has set it."""
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


def list_secrets(store: Store) -> list[wire.SecretName]:
    """The names of all secrets; never a value."""
    rows = store.connection.execute("select name, changed_at from secret order by name")
    found = {r["name"]: {"name": r["name"], "kept": "store", "changed_at": r["changed_at"]} for r in rows}
    found |= {name: {"name": name, "kept": where, "changed_at": None} for name, (where, _) in _outside().items()}
    return [typed(wire.SecretName, found[name]) for name in sorted(found)]


def remove_secret(store: Store, name: str) -> None:
    """Remove a secret.

    Raises:
        NotFound: there is none.
    """
    with store.transaction() as connection:
        if connection.execute("delete from secret where name = ?", (name,)).rowcount == 0:
            raise NotFound(
                "removing the secret",
                name,
                found="no secret of that name",
                fix="see `reed secrets`",
                code="secret.not_found",
            )
