"""The steps to loading into a PostgreSQL schema, checked one by one, with what an administrator has to run."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import psycopg

from ...check_steps import CheckStep, reach, walked
from ...postgres import Address, connect_failure, server_message

STEPS = ("name", "port", "tls", "login", "version", "schema", "rights", "write")
_OLDEST = 110_000
_REFUSED_LOGIN = ("28000", "28P01")


def check(address: Address) -> list[CheckStep]:
    """Every step of STEPS; those after the first that fails are not reached."""
    return walked(_steps(address), STEPS)


def _steps(address: Address) -> Iterator[CheckStep]:
    yield from reach(address.host, address.port, "`host`")
    try:
        connection = psycopg.connect(address.conninfo(), autocommit=True)
    except psycopg.OperationalError as error:
        yield from connect_failure(address, error)
        return
    try:
        in_use = bool(getattr(connection.pgconn, "ssl_in_use", False))
        protected = f"mode {address.tls.mode}, the connection is {'protected' if in_use else 'not protected'}"
        yield CheckStep("tls", True, protected)
        yield CheckStep("login", True, f"as {address.user} to {address.database}")
        yield from _inside(address, connection)
    finally:
        connection.close()


def _inside(address: Address, connection: psycopg.Connection[Any]) -> Iterator[CheckStep]:
    version = connection.info.server_version
    shown = f"PostgreSQL {version // 10_000}"
    if version < _OLDEST:
        yield CheckStep("version", False, shown, "version 11 or later is needed")
        return
    yield CheckStep("version", True, shown)
    schema, user, database = (f'"{n}"' for n in (address.schema, address.user, address.database))
    there = connection.execute("select 1 from pg_namespace where nspname = %s", (address.schema,)).fetchone()
    if not there:
        may = connection.execute("select has_database_privilege(current_database(), 'CREATE')").fetchone()
        if not (may and may[0]):
            fix = f"CREATE SCHEMA {schema} AUTHORIZATION {user};"
            yield CheckStep("schema", False, f"there is no schema {schema}, and {user} may not create one", fix)
            return
        yield CheckStep("schema", True, f"{schema} will be created by the first load")
    else:
        yield CheckStep("schema", True, f"{schema} exists")
    row = connection.execute(
        """select s.there is null or has_schema_privilege(s.there, 'USAGE'),
                  s.there is null or has_schema_privilege(s.there, 'CREATE'),
                  has_database_privilege(current_database(), 'TEMP')
           from (select to_regnamespace(quote_ident(%s))::oid as there) as s""",
        (address.schema,),
    ).fetchone()
    assert row is not None
    missing = [
        f"GRANT {right} ON {on} TO {user};"
        for ok, right, on in zip(
            row, ("USAGE", "CREATE", "TEMPORARY"), (f"SCHEMA {schema}", f"SCHEMA {schema}", f"DATABASE {database}")
        )
        if not ok
    ]
    if missing:
        yield CheckStep("rights", False, f"{user} lacks {len(missing)} of 3 rights", " ".join(missing))
        return
    yield CheckStep("rights", True, "use the schema, create tables in it, create temporary tables")
    try:
        with connection.transaction(force_rollback=True):
            connection.execute("create temp table rb_check (n bigint) on commit drop")
            if there:
                connection.execute(
                    psycopg.sql.SQL("create table {}.rb_check_write (n bigint)").format(psycopg.sql.Identifier(address.schema))
                )
        yield CheckStep("write", True, "a table was created and rolled back")
    except psycopg.Error as error:
        yield CheckStep("write", False, server_message(error), "see the server's log")
