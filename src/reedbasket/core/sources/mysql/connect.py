"""Reading sessions on a MySQL or MariaDB server, and its errors translated."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pymysql
from pymysql.constants import CLIENT

from ...errors import ReedError
from ...mysql import LOCKED, NO_RIGHT, TIMED_OUT, Address, is_lost, is_maria, parts, rows
from ..sql.database import DatabaseErrors

_LOCK_SECONDS = 30
# How long the server waits while nobody takes the rows it sends: the warehouse may be busy committing.
_PATIENCE_SECONDS = 3600


class MysqlAddress(Address):
    """Where a database is that is read."""

    def connect(self, timeout: timedelta | None = None) -> pymysql.Connection[Any]:
        """A read-only session, in UTC.

        Args:
            timeout: of a statement.

        Raises:
            pymysql.Error: the server refuses.
            OSError: there is no server.
        """
        connection = self.session(
            [
                f"lock_wait_timeout = {_LOCK_SECONDS}", f"innodb_lock_wait_timeout = {_LOCK_SECONDS}",
                f"net_write_timeout = {_PATIENCE_SECONDS}", "group_concat_max_len = 1048576",
            ],
            flags=CLIENT.FOUND_ROWS,
        )  # fmt: skip
        settings = ["transaction_read_only = 1"]
        if is_maria(connection):
            settings = ["tx_read_only = 1"]
            settings += [f"max_statement_time = {timeout.total_seconds():g}"] if timeout else []
        elif timeout:
            settings.append(f"max_execution_time = {int(timeout.total_seconds() * 1000)}")
        rows(connection, "set session " + ", ".join(settings))
        return connection


def told(error: Exception, doing: str, errors: DatabaseErrors) -> ReedError:
    """Translate a driver's error."""
    number, words = parts(error)
    if number in TIMED_OUT:
        return errors.timed_out(doing, words)
    if number in LOCKED:
        return errors.locked(doing, words)
    if number in NO_RIGHT:
        return errors.permission_denied(doing, words)
    if is_lost(error):
        return errors.unreachable(doing, words)
    return errors.failed(doing, words)
