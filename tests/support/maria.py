"""A private MariaDB: own folder, own free port, gone at the end."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pymysql

from tests.support.programs import program

_QUICK = [
    "innodb-flush-log-at-trx-commit=0",
    "sync-binlog=0",
    "innodb-buffer-pool-size=64M",
    "innodb-log-file-size=64M",
    "skip-name-resolve",
]
LOG = ["log-bin=bin", "server-id=1", "binlog-format=ROW", "binlog-row-metadata=FULL"]


class Maria:
    """settings: of the server, without the dashes."""

    def __init__(self, settings: Sequence[str] = ()) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="reed-maria-"))
        os.chmod(self.folder, 0o755)
        self._settings = settings
        # The server refuses to run as root.
        self._user = ["--user=mysql"] if os.geteuid() == 0 else []
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        if self._user:
            shutil.chown(self.folder, "mysql", "mysql")
        made = [
            program("mariadb-install-db", "mariadb-server"),
            "--no-defaults",
            f"--datadir={self.folder}/data",
            "--auth-root-authentication-method=normal",
        ]
        subprocess.run([*made, "--skip-test-db", *self._user], check=True, capture_output=True)
        self.start()

    def start(self) -> None:
        command = [
            program("mariadbd", "mariadb-server"), "--no-defaults", *self._user, f"--datadir={self.folder}/data", f"--port={self.port}",
            f"--socket={self.folder}/socket", "--bind-address=127.0.0.1", f"--log-error={self.folder}/log",
            # A server that starts removes what looks like its own in there.
            f"--pid-file={self.folder}/pid", f"--tmpdir={self.folder}", *(f"--{setting}" for setting in (*_QUICK, *self._settings)),
        ]  # fmt: skip
        self._process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(600):
            try:
                self.connect().close()
                return
            except pymysql.Error:
                time.sleep(0.1)
        raise RuntimeError((self.folder / "log").read_text()[-2000:])

    def connect(self, **more: Any) -> pymysql.Connection[Any]:
        given = {"user": "root", "host": "127.0.0.1", "port": self.port, "autocommit": True, "ssl_disabled": True, **more}
        return pymysql.connect(**given)

    def do(self, sql: str, database: str | None = None) -> list[tuple[Any, ...]]:
        """Statements, with `;` between them."""
        found: list[tuple[Any, ...]] = []
        with self.connect(database=database) as connection, connection.cursor() as cursor:
            for statement in filter(str.strip, sql.split(";\n")):
                cursor.execute(statement)
                found = list(cursor.fetchall())
        return found

    def look(self, sql: str, database: str) -> list[tuple[Any, ...]]:
        """One statement of standard SQL, as a reader of a warehouse writes it; times are in UTC."""
        mode = "set session sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT', time_zone = '+00:00'"
        with self.connect(database=database, init_command=mode, charset="utf8mb4") as connection, connection.cursor() as cursor:
            cursor.execute(sql)
            return [tuple(v.replace(tzinfo=UTC) if isinstance(v, datetime) else v for v in row) for row in cursor.fetchall()]

    def kill(self) -> None:
        self._process.kill()
        self._process.wait()

    def stop(self) -> None:
        self.kill()
        shutil.rmtree(self.folder, ignore_errors=True)
