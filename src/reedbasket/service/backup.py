"""Backing up the data folder while the service runs, and restoring it."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tarfile
import tempfile
from pathlib import Path

from ..core.errors import ReedError
from ..store.database import FILE_NAME, Store
from ..store.secrets import KEY_FILE

# What belongs to the moment, not to the records.
_NOT_KEPT = {"service.json", "service.lock", "token", FILE_NAME, FILE_NAME + "-wal", FILE_NAME + "-shm"}
_PAGES_AT_ONCE = 2_000


class BackupError(ReedError):
    """A backup that cannot be written or restored."""

    code = "backup.failed"


def write(folder: Path, target: Path, *, with_key: bool) -> list[str]:
    """Write a tar file of mode 0600 with the store as of one moment, signers and, if `with_key`, the key. Warehouse files are not
    included, because their engines have their own ways. Returns the names of what is included.

    Raises:
        BackupError: it cannot be written.
    """
    if not (folder / FILE_NAME).exists():
        raise BackupError("writing the backup of", str(folder), found="no store there", fix="name the service's data folder")
    target = target.absolute()
    beside = target.with_name(target.name + ".part")
    names: list[str] = []
    with tempfile.TemporaryDirectory(dir=target.parent) as made:
        copy = Path(made) / FILE_NAME
        _copy_store(folder / FILE_NAME, copy)
        beside.unlink(missing_ok=True)
        with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as raw:
            with tarfile.open(fileobj=raw, mode="w:gz", compresslevel=1) as tar:
                tar.add(copy, FILE_NAME)
                names.append(FILE_NAME)
                if with_key and (folder / KEY_FILE).exists():
                    tar.add(folder / KEY_FILE, KEY_FILE)
                    names.append(KEY_FILE)
                if (folder / "signers").is_dir():
                    tar.add(folder / "signers", "signers")
                    names.append("signers")
            raw.flush()
            os.fsync(raw.fileno())
        beside.replace(target)
    return names


def _copy_store(source: Path, copy: Path) -> None:
    """As of one moment; readers and writers go on (SQLite's online backup)."""
    origin = sqlite3.connect(f"file:{source}?mode=ro", uri=True)
    taken = sqlite3.connect(copy)
    try:
        origin.backup(taken, pages=_PAGES_AT_ONCE)
        taken.execute("pragma journal_mode = delete")
        wrong = taken.execute("pragma quick_check").fetchone()[0]
        if wrong != "ok":
            raise BackupError(
                "checking the backup of", str(source), found=str(wrong)[:200], fix="the store itself is damaged; report it"
            )
    finally:
        taken.close()
        origin.close()


def restore(source: Path, folder: Path) -> list[str]:
    """Restore into a folder that is empty or does not exist. Runs that were going on are recovered at the next start.

    Raises:
        BackupError: it cannot be restored.
    """
    if folder.exists() and any(folder.iterdir()):
        raise BackupError(
            "restoring into",
            str(folder),
            found="it is not empty",
            fix="name a new folder",
            code="backup.not_empty",
        )
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    try:
        with tarfile.open(source, "r:gz") as tar:
            names = tar.getnames()
            if FILE_NAME not in names or any(name.split("/")[0] in _NOT_KEPT - {FILE_NAME} for name in names):
                raise BackupError(
                    "restoring", str(source), found="not a backup of Reed Basket", fix="name one that `reed backup` wrote"
                )
            tar.extractall(folder, filter="data")
    except (tarfile.TarError, OSError) as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise BackupError(
            "restoring", str(source), found=f"{type(error).__name__}: {error}", fix="use a complete backup"
        ) from error
    for name in (FILE_NAME, KEY_FILE):
        if (folder / name).exists():
            (folder / name).chmod(0o600)
    Store(folder).upgrade()
    return sorted({name.split("/")[0] for name in names})
