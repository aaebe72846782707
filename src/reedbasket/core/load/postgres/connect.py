"""Connections to PostgreSQL, and its errors as ours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import adbc_driver_manager
import adbc_driver_postgresql.dbapi
import psycopg
from psycopg.conninfo import make_conninfo

from ...errors import ConnectionLost, ReedError, WarehouseBusy, WarehouseError
from ...spec.model import Warehouse

# How long a load waits for a lock that another session holds.
LOCK_SECONDS = 60
_CONNECT_SECONDS = 10
# SQLSTATE classes and codes, PostgreSQL documentation, appendix A.
_LOST = ("08", "57P")
_BUSY = ("55P03", "40P01", "40001")
_NO_SPACE = "53100"
_NO_RIGHT = "42501"
_LOST_WORDS = ("server closed the connection", "connection to server was lost", "no connection to the server",
               "could not receive data", "could not send data", "SSL SYSCALL", "terminating connection", "SSL error",
               "connection not open", "connection is closed", "the connection is lost", "Connection reset", "unexpected eof")  # fmt: skip


class Address:
    """Where the warehouse is, and how to get in. The password stands in no printed form."""

    def __init__(self, definition: Warehouse, password: str | None, folder: Path) -> None:
        assert definition.host and definition.database and definition.user
        self.host, self.port, self.database = definition.host, definition.port, definition.database
        self.user, self.schema, self.tls = definition.user, definition.schema_, definition.tls
        self._password = password
        self._root = str(folder / definition.tls.root) if definition.tls.root else None

    def __str__(self) -> str:
        return f"{self.user}@{self.host}:{self.port}/{self.database}, schema {self.schema}"

    def conninfo(self, *settings: str, tls: str | None = None) -> str:
        """For libpq. settings: `name=value` for the session. tls: another mode than the warehouse's, to see what is wrong."""
        schema = self.schema.replace("\\", "\\\\").replace(" ", "\\ ")
        options = [f"search_path={schema}", "timezone=UTC", "client_encoding=UTF8", *settings]
        mode = tls or self.tls.mode
        return make_conninfo(
            host=self.host,
            port=self.port,
            dbname=self.database,
            user=self.user,
            password=self._password,
            sslmode=mode,
            sslrootcert=self._root if mode.startswith("verify") else None,
            connect_timeout=_CONNECT_SECONDS,
            application_name="reed basket",
            keepalives_idle=30,
            keepalives_interval=10,
            keepalives_count=3,
            options=" ".join(f"-c {option}" for option in options),
        )


def connect_writer(address: Address) -> Any:
    """An ADBC connection for loading. Every statement commits by itself until `begin`. Raises WarehouseError."""
    with translated("opening the warehouse", address):
        return adbc_driver_postgresql.dbapi.connect(
            address.conninfo(f"lock_timeout={LOCK_SECONDS}s", "statement_timeout=0"), autocommit=True
        )


def connect_reader(address: Address) -> psycopg.Connection[Any]:
    """Read only. Raises WarehouseError."""
    with translated("opening the warehouse for reading", address):
        return psycopg.connect(address.conninfo("default_transaction_read_only=on", "lock_timeout=10s"), autocommit=True)


def is_lost(error: Exception) -> bool:
    state = getattr(error, "sqlstate", None) or ""
    if state.startswith(_LOST):
        return True
    return any(words in str(error) for words in _LOST_WORDS)


@contextmanager
def translated(doing: str, address: Address) -> Iterator[None]:
    """The drivers' errors, at this border, as WarehouseError."""
    try:
        yield
    except ReedError:
        raise
    except (adbc_driver_manager.Error, psycopg.Error) as error:
        raise _told(doing, address, error) from error


def _told(doing: str, address: Address, error: Exception) -> WarehouseError:
    state, words = getattr(error, "sqlstate", None) or "", said(error)
    if is_lost(error):
        return ConnectionLost(doing, str(address), found=words, mend="see whether the server is up, then run again")
    if state in _BUSY:
        return WarehouseBusy(
            doing, str(address), found=f"another session holds a lock: {words}", mend="end that session, then run again"
        )
    if state == _NO_SPACE:
        return WarehouseError(
            doing, str(address), found=f"the server has no space left: {words}", mend="make space, then run again",
            code="warehouse.full",
        )  # fmt: skip
    if state == _NO_RIGHT:
        return WarehouseError(
            doing, str(address), found=words, mend="`reed check` of the warehouse prints the GRANT to hand to an administrator",
            code="warehouse.no_right",
        )  # fmt: skip
    if state == "54000":
        mend = "leave columns out (`only`, `leave_out`), or keep objects as JSON (`nesting: {objects: json}`)"
        return WarehouseError(doing, str(address), found=words, mend=mend, code="warehouse.too_many_columns")
    mend = "nothing of this load was committed; run again, or see `reed check` of the warehouse"
    return WarehouseError(doing, str(address), found=words, mend=mend, code="warehouse.failed")


def said(error: Exception) -> str:
    """The server's own sentence, without the driver's wrapping."""
    if isinstance(error, psycopg.Error):
        return (error.diag.message_primary or str(error)).strip().splitlines()[0]
    for name, value in getattr(error, "details", None) or []:
        if name == b"PG_DIAG_MESSAGE_PRIMARY" or name == "PG_DIAG_MESSAGE_PRIMARY":
            return value.decode() if isinstance(value, bytes) else str(value)
    return str(error).strip().splitlines()[0]
