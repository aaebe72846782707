"""The marsh on a private MariaDB, from the machine's own packages: a warehouse that the demo's feeds load into."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pymysql

_RIGHTS = "SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, CREATE TEMPORARY TABLES, CREATE VIEW"


class MarshServer:
    """A server of its own: own folder, own free port, gone at the end."""

    def __init__(self, password: str) -> None:
        """Start it, with an empty database `marsh`.

        Args:
            password: of `marsh_loader`, who loads into it.

        Raises:
            RuntimeError: no MariaDB is installed, or it does not start.
        """
        installer, server = (shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin") for name in _PROGRAMS)
        if installer is None or server is None:
            raise RuntimeError("no MariaDB is installed: apt-get install mariadb-server")
        self.folder = Path(tempfile.mkdtemp(prefix="reed-demo-maria-"))
        # It refuses to run as root.
        user = ["--user=mysql"] if os.geteuid() == 0 else []
        if user:
            shutil.chown(self.folder, "mysql", "mysql")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        data = f"--datadir={self.folder}/data"
        made = [installer, "--no-defaults", data, "--auth-root-authentication-method=normal", "--skip-test-db", *user]
        subprocess.run(made, check=True, capture_output=True)
        self._process = subprocess.Popen(
            [
                server, "--no-defaults", *user, data, f"--port={self.port}", f"--socket={self.folder}/socket",
                "--bind-address=127.0.0.1", f"--log-error={self.folder}/log", f"--pid-file={self.folder}/pid",
                # A server that starts removes what looks like its own in there.
                f"--tmpdir={self.folder}",
            ],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        with closing(self._boss()) as boss, boss.cursor() as cursor:
            cursor.execute("create database marsh")
            cursor.execute("create user marsh_loader identified by %s", (password,))
            cursor.execute(f"grant {_RIGHTS} on marsh.* to marsh_loader")

    def _boss(self) -> pymysql.Connection[Any]:
        for _ in range(300):
            try:
                return pymysql.connect(unix_socket=f"{self.folder}/socket", user="root", autocommit=True)
            except pymysql.Error:
                time.sleep(0.1)
        self.stop()
        raise RuntimeError("MariaDB did not start")

    def stop(self) -> None:
        """End it, and remove its folder."""
        self._process.terminate()
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
        shutil.rmtree(self.folder, ignore_errors=True)


_PROGRAMS = ("mariadb-install-db", "mariadbd")
