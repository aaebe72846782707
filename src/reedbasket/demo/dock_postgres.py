"""The dock on a private PostgreSQL, from the machine's own packages: as a source whose log is followed, and as a warehouse."""

from __future__ import annotations

import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Callable, Mapping
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from .dock import make_dock

_TABLES = {
    "work_orders": "order_id int primary key, vessel text not null, job text not null, status text not null, due date, "
    "cost numeric(10, 2), opened_at timestamptz not null, updated_at timestamptz not null",
    "parts": "part_no text primary key, name text not null, price numeric(10, 2), in_stock int",
    "crew_shifts": "shift_id int primary key, crew text not null, landing text not null, day date not null, turn text not null",
    "fuel_tanks": "landing text primary key, name text not null, holds_litres int not null, litres int not null, "
    "read_at timestamptz not null",
}
_STATEMENTS = (
    "create index on work_orders (updated_at)",
    "create view open_orders as select order_id, vessel, job, due from work_orders where status = 'open'",
    # What `reed setup-sql dock` prints.
    "grant select on all tables in schema public to dock_reader",
    "create publication reed_dock for table work_orders, parts, crew_shifts, fuel_tanks with (publish_via_partition_root = true)",
)


class DockServer:
    """A server of its own: own folder, own free port, gone at the end."""

    def __init__(self, passwords: Mapping[str, str]) -> None:
        """passwords: of dock_reader and marsh_loader. Raises RuntimeError where no PostgreSQL is installed."""
        programs = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
        found = str(programs[-1]) if programs else shutil.which("initdb")
        if found is None:
            raise RuntimeError("no PostgreSQL is installed: apt-get install postgresql")
        self._bin = Path(found).parent
        self.folder = Path(tempfile.mkdtemp(prefix="reed-demo-pg-"))
        # It refuses to run as root.
        self._user: dict[str, Any] = {"user": "postgres", "group": "postgres"} if os.geteuid() == 0 else {}
        if self._user:
            shutil.chown(self.folder, "postgres", "postgres")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        made = ["-D", "data", "-U", "boss", "--auth-local=trust", "--auth-host=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8"]
        self._process = self._started(*made)
        self._fill(passwords)

    def _started(self, *made: str) -> subprocess.Popen[bytes]:
        quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": self.folder, **self._user}
        subprocess.run([str(self._bin / "initdb"), *made], check=True, **quiet)
        options = [f"-p{self.port}", f"-k{self.folder}", "-clisten_addresses=127.0.0.1", "-cwal_level=logical"]
        process = subprocess.Popen([str(self._bin / "postgres"), "-D", "data", *options], stdin=subprocess.DEVNULL, **quiet)
        for _ in range(300):
            try:
                self.connect("postgres").close()
                return process
            except psycopg.OperationalError:
                time.sleep(0.1)
        process.kill()
        raise RuntimeError("PostgreSQL did not start")

    def connect(self, database: str = "dock") -> psycopg.Connection[Any]:
        """As the server's owner."""
        return psycopg.connect(host=str(self.folder), port=self.port, user="boss", dbname=database, autocommit=True)

    def stop(self) -> None:
        """End it, and remove its folder."""
        self._process.terminate()
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _fill(self, passwords: Mapping[str, str]) -> None:
        """The same rows as in the file of the other demo."""
        with closing(self.connect("postgres")) as boss:
            for role, more in (("dock_reader", " replication"), ("marsh_loader", "")):
                made = sql.SQL("create role {} login" + more + " password {}")
                boss.execute(made.format(sql.Identifier(role), sql.Literal(passwords[role])))
            boss.execute("create database dock")
            boss.execute("create database marsh owner marsh_loader")
        path = self.folder / "dock.db"
        make_dock(path)
        with closing(self.connect()) as boss, closing(sqlite3.connect(path)) as file:
            boss.execute("set timezone = 'UTC'")
            for table, columns in _TABLES.items():
                boss.execute(f"create table {table} ({columns})")
                with boss.cursor().copy(sql.SQL("copy {} from stdin").format(sql.Identifier(table))) as copy:
                    for row in file.execute(f"select * from {table}"):
                        copy.write_row(row)
            for statement in _STATEMENTS:
                boss.execute(statement)
            boss.execute("vacuum analyze")


def happenings(server: DockServer) -> Mapping[str, Callable[[], str]]:
    """What the workshop does, by name."""

    def change(statement: str, words: str) -> Callable[[], str]:
        def happen() -> str:
            with closing(server.connect()) as boss:
                found = boss.execute(statement, {"now": datetime.now(UTC)}).fetchone()
            return words.format(*found) if found else "there is nothing left to do that with"

        return happen

    return {
        "work_order_done": change(
            """update work_orders set status = 'done', cost = 120, updated_at = %(now)s
               where order_id = (select min(order_id) from work_orders where status = 'open') returning order_id, vessel""",
            "work order {} on the {} is done",
        ),
        "work_order_deleted": change(
            "delete from work_orders where order_id = (select max(order_id) from work_orders) returning order_id",
            "work order {} was deleted; the change log shows that",
        ),
        "part_repriced": change(
            """update parts set price = round(price * 1.1, 2)
               where part_no = (select part_no from parts order by random() limit 1) returning part_no, price""",
            "part {} costs {} now; its row does not say since when, but the change log does",
        ),
        "shift_cancelled": change(
            "delete from crew_shifts where shift_id = (select max(shift_id) from crew_shifts) returning shift_id, crew",
            "shift {} of {} was taken out",
        ),
    }
