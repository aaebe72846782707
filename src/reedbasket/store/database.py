"""The store's file: connections, transactions, and upgrades by numbered .sql files."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Any

from ..core.allowed_paths import Places
from ..core.errors import ReedError

FILE_NAME = "service.db"
# Writers are short here; whoever waits longer than this is stuck.
_BUSY_SECONDS = 20.0


class StoreError(ReedError):
    """The service's own records cannot be read or written."""

    code = "store.failed"


class Store:
    """The records of one data folder. Each thread has its own connection, in `_local`.

    Attributes:
        held: results derived from records that have not changed since; each entry is replaced as a whole.
        allowed: further folders that definitions may reach.
    """

    def __init__(self, folder: Path, allowed: Sequence[Path] = ()) -> None:
        self.folder = folder
        self.places = Places.of_service(folder, allowed)
        self.path = folder / FILE_NAME
        self.held: dict[str, Any] = {}
        self._local = threading.local()

    @property
    def connection(self) -> sqlite3.Connection:
        """The calling thread's connection."""
        found: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if found is None:
            found = self._local.connection = connect(self.path)
        return found

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """A writing transaction: all of it, or nothing. The only place that commits."""
        connection = self.connection
        connection.execute("begin immediate")
        try:
            yield connection
            connection.execute("commit")
        except BaseException:
            # A commit that fails, on a full disk say, leaves the transaction open, and its lock held.
            if connection.in_transaction:
                connection.execute("rollback")
            raise

    def close(self) -> None:
        """Close the calling thread's connection."""
        found = getattr(self._local, "connection", None)
        if found is not None:
            found.close()
            self._local.connection = None

    def _close_to_others(self) -> None:
        """The folder and what is secret in it, whoever made it or copied it here."""
        for path, mode in ((self.folder, 0o700), *((path, 0o600) for path in self.folder.glob("*") if path.is_file())):
            if path.stat().st_mode & 0o077:
                with suppress(PermissionError):  # another's, who lets us in
                    path.chmod(mode)

    def upgrade(self) -> list[str]:
        """Upgrade the file to this version's schema, in place. Returns the names of the steps.

        Raises:
            StoreError: it cannot be upgraded.
        """
        for folder in (self.folder, self.places.files, self.places.warehouses):
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._close_to_others()
        connection = self.connection
        scripts = sorted(
            (f for f in files(__package__).joinpath("schema").iterdir() if f.name.endswith(".sql")),
            key=lambda f: f.name,
        )
        taken = []
        version = connection.execute("pragma user_version").fetchone()[0]
        if version > len(scripts):
            raise StoreError(
                "opening the data folder",
                str(self.folder),
                found=f"it was created by another version (schema {version}; this one knows {len(scripts)})",
                fix="use the version that created it, or another data folder",
                code="store.other_version",
            )
        for number, script in enumerate(scripts[version:], version + 1):
            try:
                connection.executescript(
                    f"begin immediate;\n{script.read_text('utf-8')}\npragma user_version = {number};\ncommit;"
                )
            except sqlite3.Error as error:
                if connection.in_transaction:
                    connection.execute("rollback")
                raise StoreError(
                    "upgrading the data folder",
                    str(self.folder),
                    found=f"{script.name}: {error}",
                    fix="nothing of this step was saved; report it",
                    code="store.upgrade_failed",
                ) from error
            taken.append(script.name)
        return taken


def connect(path: Path) -> sqlite3.Connection:
    """A connection with our settings."""
    connection = sqlite3.connect(path, timeout=_BUSY_SECONDS, isolation_level=None, check_same_thread=False)
    connection.row_factory = sqlite3.Row
    # WAL: the API reads while a worker writes.
    connection.execute("pragma journal_mode = wal")
    # NORMAL: the warehouse is the truth; what a power cut takes here is copied from there again.
    connection.execute("pragma synchronous = normal")
    connection.execute("pragma foreign_keys = on")
    return connection


def now_text() -> str:
    """The present moment, as the store writes it."""
    return text_of(datetime.now(UTC))


def text_of(moment: datetime) -> str:
    """A time as the store writes it: RFC 3339, UTC, milliseconds. Such texts sort as times."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
