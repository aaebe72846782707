"""PostgreSQL servers, as warehouses and as sources: their addresses, connecting, and what their drivers' errors mean."""

from __future__ import annotations

import re
from pathlib import Path

import psycopg
from psycopg.conninfo import make_conninfo

from . import outgoing
from .allowed_paths import Places
from .check_steps import CheckStep
from .spec.database_address import ServerAddress

_CONNECT_SECONDS = 10
# SQLSTATE classes, PostgreSQL documentation, appendix A.
_LOST = ("08", "57P")
_LOST_WORDS = ("server closed the connection", "connection to server was lost", "no connection to the server",
               "could not receive data", "could not send data", "SSL SYSCALL", "terminating connection", "SSL error",
               "connection not open", "connection is closed", "the connection is lost", "Connection reset", "unexpected eof")  # fmt: skip
# As ADBC tells what went wrong between two rows.
_WRAPPING = re.compile(r"^\[libpq\] [^:]*: (?:\w+: +)?")


class Address:
    """Where a schema is, and the credentials. The password is in no printed form."""

    def __init__(self, definition: ServerAddress, schema: str, password: str | None, places: Places, zone: str = "UTC") -> None:
        """Resolve a definition.

        Args:
            zone: the session's time zone.
        """
        self.host, self.port, self.database = definition.host, definition.port, definition.database
        self.user, self.schema, self.tls = definition.user, schema, definition.tls
        if self.host.startswith("/"):  # a socket file: who asks is known by the user that runs the service
            places.require(Path(self.host))
        self._zone = zone
        self._password = password
        self._root = str(places.file(definition.tls.root)) if definition.tls.root else None

    def __str__(self) -> str:
        return f"{self.user}@{self.host}:{self.port}/{self.database}, schema {self.schema}"

    def conninfo(self, *settings: str, tls: str | None = None) -> str:
        """The address for libpq.

        Args:
            settings: `name=value` for the session.
            tls: another mode than the definition's, to find out what is wrong.

        Raises:
            AddressNotAllowed: the address may not be connected to.
            psycopg.OperationalError: the name has no address.
        """
        try:
            looked_at = [] if self.host.startswith("/") else outgoing.require(self.host, self.port)
        except OSError as error:
            raise psycopg.OperationalError(str(error)) from error
        quoted = '"' + self.schema.replace('"', '""') + '"'
        schema = quoted.replace("\\", "\\\\").replace(" ", "\\ ")
        options = [f"search_path={schema}", f"timezone={self._zone}", "client_encoding=UTF8", *settings]
        mode = tls or self.tls.mode
        return make_conninfo(
            # Once for each address: libpq tries them in turn, asks no resolver, and compares certificates with the name.
            host=",".join([self.host] * max(1, len(looked_at))),
            hostaddr=",".join(looked_at) or None,
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


def is_lost(error: Exception) -> bool:
    """Whether the connection is lost, rather than a statement refused."""
    state = getattr(error, "sqlstate", None) or ""
    if state.startswith(_LOST):
        return True
    return any(words in str(error) for words in _LOST_WORDS)


def server_message(error: Exception) -> str:
    """The server's own message, without what the driver adds."""
    if isinstance(error, psycopg.Error):
        return (error.diag.message_primary or str(error)).strip().splitlines()[0]
    for name, value in getattr(error, "details", None) or []:
        if name in (b"PG_DIAG_MESSAGE_PRIMARY", "PG_DIAG_MESSAGE_PRIMARY"):
            return value.decode() if isinstance(value, bytes) else str(value)
    return _WRAPPING.sub("", str(error).strip().splitlines()[0])


def connect_failure(address: Address, error: psycopg.OperationalError) -> list[CheckStep]:
    """What prevented a connection: the steps `tls` and `login`, as far as they went."""
    words = str(error).strip()
    last = words.splitlines()[-1]
    mode = address.tls.mode
    if "SSL" in words or "certificate" in words or "root certificate" in words:
        fix = "enable TLS on the server, or set `tls: {mode: disable}` if the network is safe"
        if mode.startswith("verify"):
            fix = "check that `tls.root` is the authority of the server's certificate, and that `host` is the name in it"
        return [CheckStep("tls", False, last, fix)]
    passed = CheckStep("tls", True, f"mode {mode}")
    if "does not exist" in words and "database" in words:
        fix = f'CREATE DATABASE "{address.database}" OWNER "{address.user}";'
        return [passed, CheckStep("login", False, last, fix)]
    fix = "set the password again with `reed secret set`, or check pg_hba.conf on the server"
    if "does not exist" in words and "role" in words:
        fix = f"CREATE ROLE \"{address.user}\" LOGIN PASSWORD '…';"
    return [passed, CheckStep("login", False, last, fix)]
