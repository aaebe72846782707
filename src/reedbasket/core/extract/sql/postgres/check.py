"""Each step on the way into a PostgreSQL database, and the statements that an administrator has to run for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from ....checking import CheckStep, reach
from ....errors import ReedError
from ....postgres import Address, connect_failure
from ....spec.model import Source
from ..tables import Table

STEPS = ("secrets", "name", "port", "tls", "login", "version", "catalog", "read")
_OLDEST = 110_000


def check(
    source: Source, reveal: Callable[[str], str], folder: Path, inside: Callable[[], Iterator[CheckStep]]
) -> Iterator[CheckStep]:
    """reveal: a secret by name. folder: where relative paths begin. inside: the steps behind the login."""
    try:
        password = reveal(source.password.secret) if source.password else None
        yield CheckStep("secrets", True, "1 set" if source.password else "none needed")
    except ReedError as error:
        yield CheckStep("secrets", False, f"{error.found}: {error.on}", error.mend)
        return
    address = Address(source, source.schema_ or "public", password, folder, source.zone)
    yield from reach(address.host, address.port, "`host`")
    try:
        connection: psycopg.Connection[Any] = psycopg.connect(address.conninfo(), autocommit=True)
    except psycopg.OperationalError as error:
        yield from connect_failure(address, error)
        return
    with connection:
        in_use = bool(getattr(connection.pgconn, "ssl_in_use", False))
        yield CheckStep("tls", True, f"mode {address.tls.mode}, the connection is {'protected' if in_use else 'not protected'}")
        yield CheckStep("login", True, f"as {address.user} to {address.database}")
        version = connection.info.server_version
        enough = version >= _OLDEST
        yield CheckStep("version", enough, f"PostgreSQL {version // 10_000}", "" if enough else "version 11 or later is needed")
    if enough:
        yield from inside()


def setup_statements(source: Source, tables: Sequence[Table]) -> list[tuple[str, str]]:
    """[(what for, SQL)] for an administrator: a user that may read these tables, and nothing else."""
    user, database = sql.Identifier(source.user or ""), sql.Identifier(source.database or "")
    made: list[tuple[str, sql.Composable]] = [
        ("a user that may sign in; set the password with `reed secret set` too",
         sql.SQL("CREATE ROLE {} LOGIN PASSWORD '…';").format(user)),
        ("it only reads, whatever it is granted later", sql.SQL("ALTER ROLE {} SET default_transaction_read_only = on;").format(user)),
        ("into this database", sql.SQL("GRANT CONNECT ON DATABASE {} TO {};").format(database, user)),
    ]  # fmt: skip
    for schema in dict.fromkeys(table.schema for table in tables):
        made.append(
            (f"names in the schema {schema}", sql.SQL("GRANT USAGE ON SCHEMA {} TO {};").format(sql.Identifier(schema), user))
        )
    for table in [table for table in tables if table.name]:
        where = sql.Identifier(table.schema, table.name)
        made.append((f"the rows of {table.name}", sql.SQL("GRANT SELECT ON {} TO {};").format(where, user)))
    return [(why, text.as_string(None)) for why, text in made]
