"""Connections to a MySQL or MariaDB server, and its errors translated."""

from __future__ import annotations

import ssl
from datetime import timedelta
from typing import Any

import pymysql
from pymysql.constants import CLIENT, CR, ER

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import ReedError
from ..sql.database import DatabaseErrors
from .definition import MysqlSourceDefinition

_CONNECT_SECONDS = 10
_LOCK_SECONDS = 30
# How long the server waits while nobody takes the rows it sends: the warehouse may be busy committing.
_PATIENCE_SECONDS = 3600
# Error numbers: MariaDB's documentation, "MariaDB Error Codes"; MySQL 8.0's "Server Error Message Reference".
_LOST = (CR.CR_CONN_HOST_ERROR, CR.CR_CONNECTION_ERROR, CR.CR_SERVER_GONE_ERROR, CR.CR_SERVER_LOST, 1053, 1927, 4031, 0)
_TIMED_OUT = (1969, 3024)
_LOCKED = (ER.LOCK_WAIT_TIMEOUT, ER.LOCK_DEADLOCK, 3572)
_NO_RIGHT = (
    ER.ACCESS_DENIED_ERROR, ER.DBACCESS_DENIED_ERROR, ER.TABLEACCESS_DENIED_ERROR, ER.COLUMNACCESS_DENIED_ERROR,
    ER.SPECIFIC_ACCESS_DENIED_ERROR, 1356, 1698,
)  # fmt: skip


class MysqlAddress:
    """Where a database is, and the credentials. The password is in no printed form."""

    def __init__(self, source: MysqlSourceDefinition, password: str | None, places: Places) -> None:
        self.host, self.port, self.database, self.user = source.host, source.port, source.database, source.user
        self.tls = source.tls
        self._password = password
        self._root = str(places.file(source.tls.root)) if source.tls.root else None

    def __str__(self) -> str:
        return f"{self.user}@{self.host}:{self.port}/{self.database}"

    def connect(self, timeout: timedelta | None = None) -> pymysql.Connection[Any]:
        """A read-only session, in UTC.

        Args:
            timeout: of a statement.

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
            client_flag=CLIENT.FOUND_ROWS,
            program_name="reed basket",
            ssl=self._context(),
            ssl_disabled=self.tls.mode == "disable",
        )
        settings = [
            "time_zone = '+00:00'", "transaction_read_only = 1", f"lock_wait_timeout = {_LOCK_SECONDS}",
            f"innodb_lock_wait_timeout = {_LOCK_SECONDS}", f"net_write_timeout = {_PATIENCE_SECONDS}",
            "wait_timeout = 86400", "group_concat_max_len = 1048576",
        ]  # fmt: skip
        if is_maria(connection):
            settings[1] = "tx_read_only = 1"
            settings += [f"max_statement_time = {timeout.total_seconds():g}"] if timeout else []
        elif timeout:
            settings.append(f"max_execution_time = {int(timeout.total_seconds() * 1000)}")
        with connection.cursor() as cursor:
            cursor.execute("set session " + ", ".join(settings))
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


def told(error: Exception, doing: str, errors: DatabaseErrors) -> ReedError:
    """Translate a driver's error."""
    number, words = _parts(error)
    if number in _TIMED_OUT:
        return errors.timed_out(doing, words)
    if number in _LOCKED:
        return errors.locked(doing, words)
    if number in _NO_RIGHT:
        return errors.permission_denied(doing, words)
    if number in _LOST or isinstance(error, OSError | EOFError):
        return errors.unreachable(doing, words)
    return errors.failed(doing, words)


def _parts(error: Exception) -> tuple[int, str]:
    if len(error.args) >= 2 and isinstance(error.args[0], int):
        return error.args[0], str(error.args[1])
    return -1, str(error).strip() or type(error).__name__


def connect_failure(address: MysqlAddress, error: Exception) -> list[CheckStep]:
    """What prevented a connection: the steps `tls` and `login`, as far as they went."""
    number, words = _parts(error)
    if "SSL" in words or "certificate" in words.lower() or isinstance(error, ssl.SSLError):
        fix = "enable TLS on the server, or set `tls: {mode: disable}` if the network is safe"
        if address.tls.mode.startswith("verify"):
            fix = "check that `tls.root` is the authority of the server's certificate, and that `host` is the name in it"
        return [CheckStep("tls", False, words, fix)]
    passed = CheckStep("tls", True, f"mode {address.tls.mode}")
    fix = "set the password again with `reed secret set`, or check which hosts the user may connect from"
    if number in (ER.BAD_DB_ERROR, ER.DBACCESS_DENIED_ERROR):
        fix = f"see `database`, or run: GRANT SELECT ON `{address.database}`.* TO '{address.user}'@'%';"
    return [passed, CheckStep("login", False, words, fix)]
