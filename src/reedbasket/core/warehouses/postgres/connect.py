"""Connections to PostgreSQL, and its errors translated."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import adbc_driver_manager
import adbc_driver_postgresql.dbapi
import psycopg

from ...errors import ConnectionLost, ReedError, WarehouseBusy, WarehouseError
from ...postgres import Address, is_lost, server_message

# How long a load waits for a lock that another session holds.
LOCK_SECONDS = 60
# SQLSTATE codes, PostgreSQL documentation, appendix A.
_BUSY = ("55P03", "40P01", "40001")
_NO_SPACE = "53100"
_NO_RIGHT = "42501"


def connect_writer(address: Address) -> Any:
    """An ADBC connection for loading. Every statement commits by itself until `begin`.

    Raises:
        WarehouseError: it could not be made.
    """
    with translated("opening the warehouse", address):
        return adbc_driver_postgresql.dbapi.connect(
            address.conninfo(f"lock_timeout={LOCK_SECONDS}s", "statement_timeout=0"), autocommit=True
        )


def connect_reader(address: Address) -> psycopg.Connection[Any]:
    """A read-only connection.

    Raises:
        WarehouseError: it could not be made.
    """
    with translated("opening the warehouse for reading", address):
        return psycopg.connect(address.conninfo("default_transaction_read_only=on", "lock_timeout=10s"), autocommit=True)


@contextmanager
def translated(doing: str, address: Address) -> Iterator[None]:
    """Translate the drivers' errors into WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except (adbc_driver_manager.Error, psycopg.Error) as error:
        raise _told(doing, address, error) from error


def _told(doing: str, address: Address, error: Exception) -> WarehouseError:
    state, words = getattr(error, "sqlstate", None) or "", server_message(error)
    if is_lost(error):
        return ConnectionLost(doing, str(address), found=words, fix="check that the server is up, then run again")
    if state in _BUSY:
        return WarehouseBusy(
            doing, str(address), found=f"another session holds a lock: {words}", fix="end that session, then run again"
        )
    if state == _NO_SPACE:
        return WarehouseError(
            doing, str(address), found=f"the server has no space left: {words}", fix="free some space, then run again",
            code="warehouse.full",
        )  # fmt: skip
    if state == _NO_RIGHT:
        return WarehouseError(
            doing, str(address), found=words, fix="`reed check` of the warehouse prints the GRANT to hand to an administrator",
            code="warehouse.permission_denied",
        )  # fmt: skip
    if state == "54000":
        fix = "leave columns out (`include_columns`, `exclude_columns`), or keep objects as JSON (`nesting: {objects: json}`)"
        return WarehouseError(doing, str(address), found=words, fix=fix, code="warehouse.too_many_columns")
    fix = "nothing of this load was committed; run again, or see `reed check` of the warehouse"
    return WarehouseError(doing, str(address), found=words, fix=fix, code="warehouse.failed")
