"""Connections to DuckDB, and its errors as ours."""

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
    """A database in memory where loads are staged; what does not fit spills into `folder`."""
    folder.mkdir(parents=True, exist_ok=True)  # DuckDB makes the last folder of a path, and no more
    connection = duckdb.connect(
        ":memory:", config={"memory_limit": f"{MEMORY_MB}MB", "threads": 2, "temp_directory": str(folder / "spill")}
    )
    connection.execute("set TimeZone = 'UTC'")
    connection.execute("set preserve_insertion_order = true")
    return connection


def attach(connection: duckdb.DuckDBPyConnection, path: Path, *, to_write: bool) -> None:
    """Open the file as `w`, as soon as nobody else is in the way. Raises WarehouseBusy."""
    path.parent.mkdir(parents=True, exist_ok=True)
    if to_write and not path.exists():
        _make(connection, path)
    how, seconds = ("read_write", BUSY_SECONDS) if to_write else ("read_only", READ_SECONDS)
    patiently(lambda: connection.execute(f"attach {_literal(path)} as w ({how})"), path, seconds)


def _make(connection: duckdb.DuckDBPyConnection, path: Path) -> None:
    """Whole, and only then in its place. DuckDB would never open one again that was not written to its end, as the disk was full or the
    process killed."""
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
    """Read only, and reaching no other file. Raises WarehouseBusy where a writer holds the file too long."""
    config: dict[str, Any] = {"memory_limit": f"{MEMORY_MB}MB", "threads": 2, "enable_external_access": "false"}
    connection: duckdb.DuckDBPyConnection = patiently(
        lambda: duckdb.connect(str(path), read_only=True, config=config), path, READ_SECONDS
    )
    connection.execute("set TimeZone = 'UTC'")
    connection.execute("set lock_configuration = true")
    return connection


def patiently(call: Any, path: Path, seconds: float) -> Any:
    """Call until no other process holds the file, at most so many seconds."""
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
                    found=f"another program has held the file for {seconds:g} s; DuckDB lets one write, or several read",
                    fix="end the program that has it open, then run again",
                ) from error
        time.sleep(_LOOK_SECONDS)


@contextmanager
def translated(doing: str, path: Path) -> Iterator[None]:
    """DuckDB's errors, at this border, as WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except (duckdb.Error, OSError) as error:
        words = str(error).strip().splitlines()[0]
        if "No space left" in str(error) or "ENOSPC" in str(error):
            raise WarehouseError(
                doing, str(path), found="no space is left on the disk", fix="make space, then run again", code="warehouse.full"
            ) from error
        fix = "nothing of this load was committed; run again"
        if isinstance(error, duckdb.IOException | OSError):
            fix = "check that the path names a DuckDB file that may be written by the user that runs the service"
        raise WarehouseError(doing, str(path), found=words, fix=fix, code="warehouse.failed") from error
