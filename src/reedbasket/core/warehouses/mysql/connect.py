"""Sessions on a MariaDB or MySQL server that loads, and its errors translated."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pymysql
from pymysql.constants import CLIENT, ER

from ...errors import ConnectionLost, ReedError, WarehouseBusy, WarehouseError
from ...mysql import LOCKED, NO_RIGHT, Address, is_lost, is_maria, parts, rows

# How long a load waits for a lock that another session holds.
LOCK_SECONDS = 60
# How long the server waits for the rest of a batch: the source may be slow.
_PATIENCE_SECONDS = 3600
# Names in double quotes and `||` are standard SQL, in what people write too: a name would otherwise go for a text unnoticed. A value that
# does not fit is an error.
_STANDARD = "STRICT_ALL_TABLES,ANSI_QUOTES,PIPES_AS_CONCAT,NO_ZERO_DATE,NO_ZERO_IN_DATE,NO_ENGINE_SUBSTITUTION"
# Error numbers: MariaDB's documentation, "MariaDB Error Codes"; MySQL 8.0's "Server Error Message Reference".
_NO_SPACE = (1021, 1114, 3675)
_READ_ONLY = (1290, 1792, 1836, 3159)
_TOO_WIDE = (ER.TOO_MANY_FIELDS, ER.TOO_BIG_ROWSIZE)


def connect_writer(address: Address) -> pymysql.Connection[Any]:
    """A session for loading. Every statement commits by itself until a transaction begins.

    Raises:
        WarehouseError: it could not be made.
    """
    with translated("opening the warehouse", address):
        # The server may take rows from us by LOAD DATA LOCAL, but the driver is not to read a file for it: `bulk.py` sends them.
        connection = address.session(
            [
                f"sql_mode = '{_STANDARD}'", f"lock_wait_timeout = {LOCK_SECONDS}", f"innodb_lock_wait_timeout = {LOCK_SECONDS}",
                f"net_read_timeout = {_PATIENCE_SECONDS}", f"net_write_timeout = {_PATIENCE_SECONDS}",
            ],
            flags=CLIENT.FOUND_ROWS | CLIENT.LOCAL_FILES,
        )  # fmt: skip
        rows(connection, f"set names utf8mb4 collate {collation(connection)}")
        rows(connection, "set session transaction isolation level read committed")
        return connection


def connect_reader(address: Address) -> pymysql.Connection[Any]:
    """A read-only session.

    Raises:
        WarehouseError: it could not be made.
    """
    with translated("opening the warehouse for reading", address):
        settings = [f"sql_mode = '{_STANDARD}'", "lock_wait_timeout = 10", f"net_write_timeout = {_PATIENCE_SECONDS}"]
        connection = address.session(settings)
        rows(connection, f"set names utf8mb4 collate {collation(connection)}")
        rows(connection, "set session transaction read only")
        return connection


def collation(connection: pymysql.Connection[Any]) -> str:
    """The collation in which texts are equal if they are the same characters, trailing spaces included."""
    return "utf8mb4_nopad_bin" if is_maria(connection) else "utf8mb4_0900_bin"


@contextmanager
def translated(doing: str, address: Address) -> Iterator[None]:
    """Translate the driver's errors into WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except (pymysql.Error, OSError, EOFError) as error:
        raise _told(doing, address, error) from error


def _told(doing: str, address: Address, error: Exception) -> WarehouseError:
    on, (number, words) = str(address), parts(error)
    if is_lost(error):
        return ConnectionLost(doing, on, found=words, fix="check that the server is up, then run again")
    if number in LOCKED:
        return WarehouseBusy(doing, on, found=f"another session holds a lock: {words}", fix="end that session, then run again")
    if number in _NO_SPACE:
        return WarehouseError(
            doing,
            on,
            found=f"the server has no space left: {words}",
            fix="free some space, then run again",
            code="warehouse.full",
        )
    if number in _READ_ONLY:
        return WarehouseError(
            doing, on, found=f"the server is read-only: {words}", fix="name the primary server in `host`, not a replica",
            code="warehouse.read_only",
        )  # fmt: skip
    if number in NO_RIGHT:
        return WarehouseError(
            doing, on, found=words, fix="`reed check` of the warehouse prints the GRANT to hand to an administrator",
            code="warehouse.permission_denied",
        )  # fmt: skip
    if number in _TOO_WIDE:
        fix = "leave columns out (`include_columns`, `exclude_columns`), or keep objects as JSON (`nesting: {objects: json}`)"
        return WarehouseError(doing, on, found=words, fix=fix, code="warehouse.too_many_columns")
    fix = "nothing of this load was committed; run again, or see `reed check` of the warehouse"
    return WarehouseError(doing, on, found=words, fix=fix, code="warehouse.failed")
