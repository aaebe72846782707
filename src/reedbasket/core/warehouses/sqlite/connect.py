"""Connections to a SQLite warehouse, and its errors translated."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from ...errors import ReedError, WarehouseBusy, WarehouseError

# How long a writer waits for another one. A commit of 100,000 rows takes one or two seconds.
BUSY_SECONDS = 60.0
# Of the warehouse's pages; a merge finds the pages that it changes there once more.
CACHE_KB = 64_000


def connect_writer(path: Path) -> sqlite3.Connection:
    """A connection for loading; creates the file if there is none.

    Raises:
        WarehouseError: it could not be opened.
    """
    with translated("opening the warehouse", path):
        path.parent.mkdir(parents=True, exist_ok=True)
        connection = sqlite3.connect(path, timeout=BUSY_SECONDS, isolation_level=None, check_same_thread=False)
        # WAL: readers keep seeing the last committed state while a load commits.
        connection.execute("pragma journal_mode = wal")
        # NORMAL: a power cut may undo the last commit as a whole; rows, ledger and cursor go together, so nothing is lost.
        connection.execute("pragma synchronous = normal")
        # The stage lives in temp tables; on disk, so that memory stays flat (in memory 100,000 rows already tell).
        connection.execute("pragma temp_store = file")
        connection.execute("pragma temp.cache_size = -16000")
        connection.execute(f"pragma cache_size = -{CACHE_KB}")
        connection.execute("pragma foreign_keys = off")
        return connection


def connect_reader(path: Path) -> sqlite3.Connection:
    """A read-only connection that can open no other file.

    Raises:
        WarehouseError: it could not be opened.
    """
    with translated("opening the warehouse for reading", path):
        connection = sqlite3.connect(
            f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=5.0, isolation_level=None, check_same_thread=False
        )
        connection.execute("pragma query_only = on")
        connection.set_authorizer(_read_only)
        _undo_unfinished(connection, path)
        return connection


def _undo_unfinished(connection: sqlite3.Connection, path: Path) -> None:
    """Roll back what a killed program left unfinished before the file was in WAL mode; only a connection that may write can."""
    try:
        connection.execute("select 1 from sqlite_master limit 1").fetchall()
    except sqlite3.Error as error:  # what else is wrong is told by whoever wants to know something
        if getattr(error, "sqlite_errorname", "") == "SQLITE_READONLY_ROLLBACK":
            with closing(sqlite3.connect(path, timeout=BUSY_SECONDS)) as writer:
                writer.execute("select 1 from sqlite_master limit 1").fetchall()


def _read_only(action: int, first: str | None, second: str | None, database: str | None, trigger: str | None) -> int:
    if action in (sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH):
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_PRAGMA and second is not None and first not in ("table_info", "table_xinfo", "index_list"):
        return sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK


@contextmanager
def translated(doing: str, path: Path | str) -> Iterator[None]:
    """Translate sqlite3's errors into WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except sqlite3.OperationalError as error:
        name = getattr(error, "sqlite_errorname", "")
        if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
            raise WarehouseBusy(
                doing,
                str(path),
                found=f"another program has locked the file for {BUSY_SECONDS:g} s",
                fix="close the program that writes to the file, then run again",
            ) from error
        # The latter where the file beside it, of WAL mode, cannot be made larger.
        if name in ("SQLITE_FULL", "SQLITE_IOERR_SHMSIZE"):
            raise WarehouseError(
                doing,
                str(path),
                found="the disk is full",
                fix="free some space, then run again",
                code="warehouse.full",
            ) from error
        raise WarehouseError(doing, str(path), found=str(error), fix=_mend(name), code="warehouse.failed") from error
    except (sqlite3.Error, OSError) as error:
        raise WarehouseError(
            doing,
            str(path),
            found=str(error),
            fix="check that the path names a SQLite file that the service's user may write",
            code="warehouse.failed",
        ) from error


def _mend(name: str) -> str:
    if name.startswith(("SQLITE_CANTOPEN", "SQLITE_READONLY", "SQLITE_PERM")):
        return "check that the folder exists, and that the service's user may write to it"
    return "nothing of this load was committed; run again"
