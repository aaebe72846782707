"""Connections to DuckDB, and its errors translated."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import duckdb

from ...errors import ReedError, WarehouseBusy, WarehouseError

# How long a load waits for another program to let go of the file.
BUSY_SECONDS = 60.0
# How long a reader waits for a commit to end.
READ_SECONDS = 20.0
# Its own limit does not cover everything: with 75 MB the process stays under the 300 MB promised, also with 10,000,000 rows.
MEMORY_MB = 75
_LOOK_SECONDS = 0.05


def connect_scratch(folder: Path) -> duckdb.DuckDBPyConnection:
    """An in-memory database in which loads are staged; what does not fit is written to `folder`."""
    folder.mkdir(parents=True, exist_ok=True)  # DuckDB makes the last folder of a path, and no more
    connection = duckdb.connect(
        ":memory:", config={"memory_limit": f"{MEMORY_MB}MB", "threads": 2, "temp_directory": str(folder / "spill")}
    )
    connection.execute("set TimeZone = 'UTC'")
    connection.execute("set preserve_insertion_order = true")
    return connection


def attach(connection: duckdb.DuckDBPyConnection, path: Path, *, to_write: bool) -> None:
    """Open the file as `w`, as soon as no other process has locked it.

    Raises:
        WarehouseBusy: it stays locked.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    if to_write and not path.exists():
        _make(connection, path)
    how, seconds = ("read_write", BUSY_SECONDS) if to_write else ("read_only", READ_SECONDS)
    retry_while_locked(lambda: connection.execute(f"attach {_literal(path)} as w ({how})"), path, seconds)


def _make(connection: duckdb.DuckDBPyConnection, path: Path) -> None:
    """Create the file completely, then move it into place: DuckDB could not open a file that a full disk or a kill has left incomplete."""
    beside = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        connection.execute(f"attach {_literal(beside)} as made")
        connection.execute("detach made")
        # Somebody else made it meanwhile; or there are no links on this disk, and it is made in its place.
        with suppress(OSError):
            os.link(beside, path)
    finally:
        beside.unlink(missing_ok=True)


def _literal(path: Path) -> str:
    quoted = str(path).replace("'", "''")
    return f"'{quoted}'"


def connect_reader(path: Path) -> duckdb.DuckDBPyConnection:
    """A read-only connection that can open no other file.

    Raises:
        WarehouseBusy: a writer has locked the file for too long.
    """
    config: dict[str, Any] = {"memory_limit": f"{MEMORY_MB}MB", "threads": 2, "enable_external_access": "false"}
    connection: duckdb.DuckDBPyConnection = retry_while_locked(
        lambda: duckdb.connect(str(path), read_only=True, config=config), path, READ_SECONDS
    )
    connection.execute("set TimeZone = 'UTC'")
    connection.execute("set lock_configuration = true")
    return connection


def retry_while_locked(call: Any, path: Path, seconds: float) -> Any:
    """Call until no other process has locked the file, for at most so many seconds."""
    end = time.monotonic() + seconds
    while True:
        try:
            return call()
        except duckdb.IOException as error:
            if "lock" not in str(error):
                raise
            if time.monotonic() > end:
                raise WarehouseBusy(
                    "opening the warehouse",
                    str(path),
                    found=f"another program has locked the file for {seconds:g} s; DuckDB allows one program to write, or several to read",
                    fix="close the program that has it open, then run again",
                ) from error
        time.sleep(_LOOK_SECONDS)


@contextmanager
def translated(doing: str, path: Path) -> Iterator[None]:
    """Translate DuckDB's errors into WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except (duckdb.Error, OSError) as error:
        words = str(error).strip().splitlines()[0]
        if "No space left" in str(error) or "ENOSPC" in str(error):
            raise WarehouseError(
                doing, str(path), found="the disk is full", fix="free some space, then run again", code="warehouse.full"
            ) from error
        fix = "nothing of this load was committed; run again"
        if isinstance(error, duckdb.IOException | OSError):
            fix = "check that the path names a DuckDB file that the service's user may write"
        raise WarehouseError(doing, str(path), found=words, fix=fix, code="warehouse.failed") from error
