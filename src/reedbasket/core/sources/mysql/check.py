"""Each step on the way into a MySQL or MariaDB server, and the statements that an administrator has to run for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing

import pymysql

from ...allowed_paths import Places
from ...check_steps import CheckStep, reach
from ...errors import ReedError
from ..sql.changelog import LogName
from ..sql.tables import Table
from .connect import MysqlAddress, connect_failure, is_maria, rows, version_of
from .definition import MysqlSourceDefinition

STEPS = ("secrets", "name", "port", "tls", "login", "version", "catalog", "read")


def check(
    source: MysqlSourceDefinition, reveal: Callable[[str], str], places: Places, inside: Callable[[], Iterator[CheckStep]]
) -> Iterator[CheckStep]:
    """reveal: a secret by name. places: of files it names. inside: the steps behind the login."""
    try:
        password = reveal(source.password.secret) if source.password else None
        yield CheckStep("secrets", True, "1 set" if source.password else "none needed")
    except ReedError as error:
        yield CheckStep("secrets", False, f"{error.found}: {error.on}", error.fix)
        return
    address = MysqlAddress(source, password, places)
    yield from reach(address.host, address.port, "`host`")
    try:
        connection = address.connect()
    except (pymysql.Error, OSError) as error:
        yield from connect_failure(address, error)
        return
    with closing(connection):
        ((_, cipher),) = rows(connection, "show session status like 'Ssl_cipher'")
        yield CheckStep("tls", True, f"mode {address.tls.mode}, the connection is {'protected' if cipher else 'not protected'}")
        yield CheckStep("login", True, f"as {address.user} to {address.database}")
        maria, version = is_maria(connection), version_of(connection)
        oldest = (10, 5) if maria else (8, 0)
        words = f"{'MariaDB' if maria else 'MySQL'} {'.'.join(map(str, version))}"
        fix = "" if version >= oldest else f"{oldest[0]}.{oldest[1]} or later is needed"
        yield CheckStep("version", version >= oldest, words, fix)
    if version >= oldest:
        yield from inside()


def setup_statements(
    source: MysqlSourceDefinition, tables: Sequence[Table], logs: Mapping[LogName, Sequence[Table]]
) -> list[tuple[str, str]]:  # fmt: skip
    """[(what for, SQL)] for an administrator: a user that may read these tables, and nothing else. logs: those that follow it."""
    user = "'" + source.user.replace("'", "''") + "'@'%'"
    made = [
        ("a user that may sign in, from anywhere ('%'); set the password with `reed secret set` too",
         f"CREATE USER {user} IDENTIFIED BY '…';")
    ]  # fmt: skip
    for table in tables:
        where = ".".join("`" + part.replace("`", "``") + "`" for part in (table.schema, table.name) if part)
        made.append(
            (f"the rows of {table.name or table.schema}", f"GRANT SELECT ON {where}{'' if table.name else '.*'} TO {user};")
        )
    if logs:
        made += [
            ("the server's log has to tell whole rows; in its configuration, then restart it",
             "[mysqld] log_bin, server_id = 1, binlog_format = ROW, binlog_row_image = FULL, binlog_row_metadata = FULL"),
            ("the user may read the log",
             f"GRANT REPLICATION SLAVE, REPLICATION CLIENT, BINLOG MONITOR ON *.* TO {user};"),
        ]  # fmt: skip
    return made
