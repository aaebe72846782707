"""The steps to reading a PostgreSQL database, checked one by one, and the statements that an administrator has to run."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import psycopg
from psycopg import sql

from ...allowed_paths import Places
from ...check_steps import CheckStep, password_step, reach
from ...errors import ReedError
from ...postgres import Address, connect_failure
from ...wording import many, size
from ..sql.changelog import LogName
from ..sql.tables import Table
from . import slot
from .definition import PostgresSourceDefinition

STEPS = ("secrets", "name", "port", "tls", "login", "version", "catalog", "read")
_OLDEST = 110_000
_REPLICATION = "`reed setup-sql SOURCE` prints the statements; the user needs REPLICATION"


def check(
    source: PostgresSourceDefinition, reveal: Callable[[str], str], places: Places, inside: Callable[[], Iterator[CheckStep]]
) -> Iterator[CheckStep]:
    """The steps.

    Args:
        reveal: gives a secret by its name.
        places: of files that the source names.
        inside: the steps after the login.
    """
    step, password = password_step(source.password.secret if source.password else None, reveal)
    yield step
    address = Address(source, source.schema_, password, places, source.time_zone)
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


def log_steps(connection: psycopg.Connection[Any], logs: Mapping[LogName, Sequence[Table]]) -> Iterator[CheckStep]:
    """What each change log needs, how far behind it is, and which slots nobody reads.

    Args:
        logs: the tables that follow each.
    """
    on = str(connection.info.host)
    try:
        if logs:
            slot.require_logical(connection, on)
        for name, tables in logs.items():
            slot.require_published(connection, on, name.publication, tables)
            state = slot.state_of(connection, name.slot)
            if state is not None and state.lost:
                fix = f"{slot.drop_statement(name.slot)} then `reed run FEED --allow-loss` reads its whole tables again"
                yield CheckStep("log", False, f"the slot {name.slot} is lost: the server has discarded log that it needed", fix)
                return
            if state is None and not _may_replicate(connection):
                yield CheckStep("log", False, f"there is no slot {name.slot}, and it may not be created", _REPLICATION)
                return
            words = (
                "will be created by the first run"
                if state is None
                else f"{size(state.behind)} behind, holds {size(state.holds)}"
            )
            yield CheckStep("log", True, f"{many(len(tables), 'table')} published, slot {name.slot}: {words}")
    except ReedError as error:
        yield CheckStep("log", False, error.found, error.fix)
        return
    for left, held in slot.abandoned(connection, [name.slot for name in logs]):
        words = f"no feed of ours reads the slot {left}, and it holds back {size(held)} of the server's disk"
        yield CheckStep("slot", True, words, f"if nobody else does: {slot.drop_statement(left)}")


def _may_replicate(connection: psycopg.Connection[Any]) -> bool:
    row = connection.execute("select rolreplication or rolsuper from pg_roles where rolname = current_user").fetchone()
    return bool(row and row[0])


def _log_statements(source: PostgresSourceDefinition, logs: Mapping[LogName, Sequence[Table]]) -> list[tuple[str, str]]:
    """[(what for, SQL)]: what following the log takes beside reading."""
    if not logs:
        return []
    user = sql.Identifier(source.user).as_string(None)
    made = [
        ("once for the server, which then has to be restarted; skip it where `show wal_level` says logical",
         "ALTER SYSTEM SET wal_level = 'logical';"),
        ("the user may read the log", f"ALTER ROLE {user} REPLICATION;"),
    ]  # fmt: skip
    for name, tables in logs.items():
        if tables:
            made.append(("the tables whose changes are published; to be run by their owner, in this database",
                         slot.publication_statement(name.publication, tables)))  # fmt: skip
        made.append(("keeps the log for the feed from here on; the first run creates it if nobody has",
                     slot.create_statement(name.slot).as_string(None) + ";"))  # fmt: skip
        made.append(
            (
                "only when the feed is removed for good, because a slot that nobody reads "
                f"fills the disk: {slot.drop_statement(name.slot)}",
                "",
            )
        )
    return made


def setup_statements(
    source: PostgresSourceDefinition, tables: Sequence[Table], logs: Mapping[LogName, Sequence[Table]]
) -> list[tuple[str, str]]:
    """[(purpose, SQL)] for an administrator: a user that may read these tables, and nothing else.

    Args:
        logs: the tables that follow each change log.
    """
    user, database = sql.Identifier(source.user), sql.Identifier(source.database)
    made: list[tuple[str, sql.Composable]] = [
        ("a user that may log in; set the same password with `reed secret set`",
         sql.SQL("CREATE ROLE {} LOGIN PASSWORD '…';").format(user)),
        ("it can only read, whatever it is granted later", sql.SQL("ALTER ROLE {} SET default_transaction_read_only = on;").format(user)),
        ("into this database", sql.SQL("GRANT CONNECT ON DATABASE {} TO {};").format(database, user)),
    ]  # fmt: skip
    for schema in dict.fromkeys(table.schema for table in tables):
        made.append(
            (f"names in the schema {schema}", sql.SQL("GRANT USAGE ON SCHEMA {} TO {};").format(sql.Identifier(schema), user))
        )
    for table in [table for table in tables if table.name]:
        where = sql.Identifier(table.schema, table.name)
        made.append((f"the rows of {table.name}", sql.SQL("GRANT SELECT ON {} TO {};").format(where, user)))
    return [*((why, text.as_string(None)) for why, text in made), *_log_statements(source, logs)]
