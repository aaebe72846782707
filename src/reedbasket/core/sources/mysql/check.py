"""The steps to reading a MySQL or MariaDB server, checked one by one, and the statements that an administrator has to run."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing

import pymysql

from ...allowed_paths import Places
from ...check_steps import CheckStep, password_step, reach
from ...mysql import connect_failure, is_maria, is_protected, version_of
from ..sql.changelog import LogName
from ..sql.tables import Table
from .connect import MysqlAddress
from .definition import MysqlSourceDefinition

STEPS = ("secrets", "name", "port", "tls", "login", "version", "catalog", "read")


def check(
    source: MysqlSourceDefinition, reveal: Callable[[str], str], places: Places, inside: Callable[[], Iterator[CheckStep]]
) -> Iterator[CheckStep]:
    """The steps.

    Args:
        reveal: gives a secret by its name.
        places: of files that the source names.
        inside: the steps after the login.
    """
    step, password = password_step(source.password.secret if source.password else None, reveal)
    yield step
    address = MysqlAddress(source, password, places)
    yield from reach(address.host, address.port, "`host`")
    try:
        connection = address.connect()
    except (pymysql.Error, OSError) as error:
        yield from connect_failure(address, error, "SELECT")
        return
    with closing(connection):
        protected = "protected" if is_protected(connection) else "not protected"
        yield CheckStep("tls", True, f"mode {address.tls.mode}, the connection is {protected}")
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
    """[(purpose, SQL)] for an administrator: a user that may read these tables, and nothing else.

    Args:
        logs: the tables that follow each change log.
    """
    user = "'" + source.user.replace("'", "''") + "'@'%'"
    made = [
        ("a user that may log in, from anywhere ('%'); set the same password with `reed secret set`",
         f"CREATE USER {user} IDENTIFIED BY '…';")
    ]  # fmt: skip
    for table in tables:
        where = ".".join("`" + part.replace("`", "``") + "`" for part in (table.schema, table.name) if part)
        made.append(
            (f"the rows of {table.name or table.schema}", f"GRANT SELECT ON {where}{'' if table.name else '.*'} TO {user};")
        )
    if logs:
        made += [
            ("the server's log has to contain whole rows; change its configuration, then restart it",
             "[mysqld] log_bin, server_id = 1, binlog_format = ROW, binlog_row_image = FULL, binlog_row_metadata = FULL"),
            ("the user may read the log",
             f"GRANT REPLICATION SLAVE, REPLICATION CLIENT, BINLOG MONITOR ON *.* TO {user};"),
        ]  # fmt: skip
    return made
