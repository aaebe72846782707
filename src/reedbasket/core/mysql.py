"""MariaDB and MySQL servers, as warehouses and as sources: their addresses, connecting, and what their errors mean."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from typing import Any

import pymysql
from pymysql.constants import CR, ER

from .allowed_paths import Places
from .check_steps import CheckStep
from .spec.database_address import ServerAddress

_CONNECT_SECONDS = 10
# Error numbers: MariaDB's documentation, "MariaDB Error Codes"; MySQL 8.0's "Server Error Message Reference".
_LOST = (CR.CR_CONN_HOST_ERROR, CR.CR_CONNECTION_ERROR, CR.CR_SERVER_GONE_ERROR, CR.CR_SERVER_LOST, 1053, 1927, 4031, 0)
TIMED_OUT = (1969, 3024)
LOCKED = (ER.LOCK_WAIT_TIMEOUT, ER.LOCK_DEADLOCK, 3572)
NO_RIGHT = (
    ER.ACCESS_DENIED_ERROR, ER.DBACCESS_DENIED_ERROR, ER.TABLEACCESS_DENIED_ERROR, ER.COLUMNACCESS_DENIED_ERROR,
    ER.SPECIFIC_ACCESS_DENIED_ERROR, 1356, 1698,
)  # fmt: skip


class Address:
    """Where a database is, and the credentials. The password is in no printed form."""

    def __init__(self, definition: ServerAddress, password: str | None, places: Places) -> None:
        self.host, self.port, self.database = definition.host, definition.port, definition.database
        self.user, self.tls = definition.user, definition.tls
        self._password = password
        self._root = str(places.file(definition.tls.root)) if definition.tls.root else None

    def __str__(self) -> str:
        return f"{self.user}@{self.host}:{self.port}/{self.database}"

    def session(self, settings: Sequence[str] = (), *, flags: int = 0) -> pymysql.Connection[Any]:
        """A session in UTC, in which every statement commits by itself.

        Args:
            settings: further `name = value` for the session.
            flags: of the protocol (pymysql.constants.CLIENT).

        Raises:
            pymysql.Error: the server refuses.
            OSError: there is no server.
        """
        connection = pymysql.connect(
            host=self.host,
            port=self.port,
            user=self.user,
            password=self._password or "",
            database=self.database,
            charset="utf8mb4",
            autocommit=True,
            connect_timeout=_CONNECT_SECONDS,
            client_flag=flags,
            program_name="reed basket",
            ssl=self._context(),
            ssl_disabled=self.tls.mode == "disable",
        )
        with connection.cursor() as cursor:
            cursor.execute("set session " + ", ".join(["time_zone = '+00:00'", "wait_timeout = 86400", *settings]))
        return connection

    def _context(self) -> ssl.SSLContext | None:
        if self.tls.mode == "disable":
            return None
        context = ssl.create_default_context(cafile=self._root)
        context.check_hostname = self.tls.mode == "verify-full"
        if not self.tls.mode.startswith("verify"):
            context.verify_mode = ssl.CERT_NONE
        return context


def is_maria(connection: pymysql.Connection[Any]) -> bool:
    """Whether it is MariaDB, which differs from MySQL in JSON, the log and the catalog."""
    return "mariadb" in _info(connection).lower()


def version_of(connection: pymysql.Connection[Any]) -> tuple[int, ...]:
    """The first two numbers of the version."""
    text = _info(connection).removeprefix("5.5.5-").split("-")[0]
    return tuple(int(part) for part in text.split(".")[:2] if part.isdigit())


def _info(connection: Any) -> str:
    return str(connection.get_server_info())


def thread_of(connection: Any) -> int:
    """The server's number for the connection."""
    return int(connection.thread_id())


def rows(connection: pymysql.Connection[Any], statement: str, *values: Any) -> list[tuple[Any, ...]]:
    """All rows of a statement."""
    with connection.cursor() as cursor:
        cursor.execute(statement, values or None)
        return list(cursor.fetchall())


def is_protected(connection: pymysql.Connection[Any]) -> bool:
    """Whether the connection is encrypted."""
    ((_, cipher),) = rows(connection, "show session status like 'Ssl_cipher'")
    return bool(cipher)


def parts(error: Exception) -> tuple[int, str]:
    """(the server's number for an error, or -1; its words)."""
    if len(error.args) >= 2 and isinstance(error.args[0], int):
        return error.args[0], str(error.args[1])
    return -1, str(error).strip() or type(error).__name__


def is_lost(error: Exception) -> bool:
    """Whether the connection is lost, rather than a statement refused."""
    return parts(error)[0] in _LOST or isinstance(error, OSError | EOFError)


def connect_failure(address: Address, error: Exception, right: str) -> list[CheckStep]:
    """What prevented a connection: the steps `tls` and `login`, as far as they went.

    Args:
        right: what the user needs on the database, as GRANT says it.
    """
    number, words = parts(error)
    if "SSL" in words or "certificate" in words.lower() or isinstance(error, ssl.SSLError):
        fix = "enable TLS on the server, or set `tls: {mode: disable}` if the network is safe"
        if address.tls.mode.startswith("verify"):
            fix = "check that `tls.root` is the authority of the server's certificate, and that `host` is the name in it"
        return [CheckStep("tls", False, words, fix)]
    passed = CheckStep("tls", True, f"mode {address.tls.mode}")
    fix = "set the password again with `reed secret set`, or check which hosts the user may connect from"
    if number in (ER.BAD_DB_ERROR, ER.DBACCESS_DENIED_ERROR):
        fix = f"see `database`, or run: GRANT {right} ON `{address.database}`.* TO '{address.user}'@'%';"
    return [passed, CheckStep("login", False, words, fix)]
