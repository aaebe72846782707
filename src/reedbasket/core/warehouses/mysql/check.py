"""The steps to loading into a MariaDB or MySQL database, checked one by one, with what an administrator has to run."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from typing import Any

import pymysql

from ...check_steps import CheckStep, reach, walked
from ...errors import WarehouseError
from ...mysql import Address, connect_failure, is_maria, is_protected, parts, rows, version_of
from .connect import connect_writer

STEPS = ("name", "port", "tls", "login", "version", "rights", "write", "bulk")
_OLDEST = {True: (10, 6), False: (8, 0)}
# What a load does, by the word that grants it.
RIGHTS = "SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, CREATE TEMPORARY TABLES, CREATE VIEW"


def check(address: Address) -> list[CheckStep]:
    """Every step of STEPS; those after the first that fails are not reached."""
    return walked(_steps(address), STEPS)


def _steps(address: Address) -> Iterator[CheckStep]:
    yield from reach(address.host, address.port, "`host`")
    try:
        address.session().close()
        connection = connect_writer(address)
    except (pymysql.Error, OSError) as error:
        yield from connect_failure(address, error, RIGHTS)
        return
    except WarehouseError as error:
        yield CheckStep("tls", True, f"mode {address.tls.mode}")
        yield CheckStep("login", True, f"as {address.user} to {address.database}")
        yield CheckStep("version", False, error.found, "MariaDB 10.6 or MySQL 8.0.31 and later know what a load needs")
        return
    with closing(connection):
        protected = "protected" if is_protected(connection) else "not protected"
        yield CheckStep("tls", True, f"mode {address.tls.mode}, the connection is {protected}")
        yield CheckStep("login", True, f"as {address.user} to {address.database}")
        yield from _inside(address, connection)


def _inside(address: Address, connection: pymysql.Connection[Any]) -> Iterator[CheckStep]:
    maria, version = is_maria(connection), version_of(connection)
    shown, oldest = f"{'MariaDB' if maria else 'MySQL'} {'.'.join(map(str, version))}", _OLDEST[maria]
    if version < oldest:
        yield CheckStep("version", False, shown, f"{oldest[0]}.{oldest[1]} or later is needed")
        return
    try:
        rows(connection, "select 1 as n except select 2 as n")
    except pymysql.Error:
        yield CheckStep("version", False, f"{shown} does not know EXCEPT", "MySQL 8.0.31 or later is needed")
        return
    yield CheckStep("version", True, shown)
    grant = f"GRANT {RIGHTS} ON `{address.database}`.* TO '{address.user.replace(chr(39), chr(39) * 2)}'@'%';"
    ((read_only,),) = rows(connection, "select @@global.read_only")
    if int(read_only):
        yield CheckStep("rights", False, "the server is read-only, as a replica is", "name the primary server in `host`")
        return
    # The rights have many forms (roles, wildcards, other databases); what counts is whether each statement goes through.
    for doing, statement in (
        ("drop tables", "drop table if exists _rb_check, _rb_checked"),  # an earlier check may have been cut
        ("create tables", "create table _rb_check (n bigint primary key) engine = InnoDB"),
        ("insert", "insert into _rb_check values (1)"),
        ("update", "update _rb_check set n = 2"),
        ("select", "select n from _rb_check"),
        ("delete", "delete from _rb_check"),
        ("alter tables", "alter table _rb_check add column m bigint"),
        ("create indexes", "create index rb_by_m on _rb_check (m)"),
        ("rename tables", "rename table _rb_check to _rb_checked"),
        ("create views", "create or replace view _rb_check_view as select 1 as n"),
        ("drop views", "drop view _rb_check_view"),
        ("drop tables", "drop table _rb_checked"),
        ("create temporary tables", "create temporary table rb_check (n bigint)"),
    ):
        try:
            rows(connection, statement)
        except (pymysql.Error, OSError) as error:
            number, words = parts(error)
            if number == 1050:  # another check is under way, or was cut
                continue
            yield CheckStep("rights", False, f"{address.user} may not {doing}: {words}", grant)
            return
    yield CheckStep("rights", True, "select, insert, update, delete; create, alter and drop tables, indexes and views")
    yield CheckStep("write", True, "a table was created, changed and dropped")
    ((bulk,),) = rows(connection, "select @@local_infile")
    how = "by LOAD DATA LOCAL" if bulk else "by INSERT of many rows: slower, since the server's local_infile is off"
    yield CheckStep("bulk", True, f"rows are sent {how}")
