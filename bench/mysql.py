"""mysql-pg: 1,000,000 rows x 12 mixed columns from MariaDB into PostgreSQL, by replace.

Ours is a whole run as a worker does it. The baseline is the `mariadb` client's dump of a SELECT, tab separated, piped into psql's copy.
"""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from . import one_run
from .databases import _COLUMNS, address, psql, timed
from .measure import child, in_turn, own_peak_mb, result
from .warehouses import cluster

WHAT = "1,000,000 rows x 12 columns from MariaDB into PostgreSQL, by replace"
BOUND = "at most 0.8; worker under 300 MB"
_SOURCE = """
create table wide (id bigint primary key, code text, name text, state varchar(10), amount decimal(12,2), weight double, qty int,
  ok bit(1), day date, made timestamp(6), updated_at timestamp(6) not null, note text);
insert into wide select seq, concat('C-', seq), concat('name of row ', seq), elt(1 + seq % 3, 'open', 'closed', 'waiting'),
  (seq % 100000) / 100, seq * 0.37e0, seq % 1000, seq % 2 = 0, date '2020-01-01' + interval seq % 2000 day,
  timestamp '2025-01-01 00:00:00' + interval seq second, timestamp '2025-02-01 00:00:00' + interval seq second,
  if(seq % 5 = 0, null, repeat('n', 30)) from seq_1_to_{count}
"""
_SELECT = "select id, code, name, state, amount, weight, qty, ok + 0, day, made, updated_at, note from wide"


@contextmanager
def server() -> Iterator[dict[str, Any]]:
    """A private MariaDB with its own defaults; gone at the end."""
    folder = Path(tempfile.mkdtemp(prefix="reed-bench-maria-"))
    user = ["--user=mysql"] if os.geteuid() == 0 else []
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    folder.chmod(0o755)
    if user:
        shutil.chown(folder, "mysql", "mysql")
    made = [
        "mariadb-install-db",
        "--no-defaults",
        f"--datadir={folder}/data",
        "--auth-root-authentication-method=normal",
        *user,
    ]
    subprocess.run(made, check=True, capture_output=True)
    path = f"{os.environ['PATH']}:/usr/sbin"
    command = [
        shutil.which("mariadbd", path=path) or "mariadbd", "--no-defaults", *user, f"--datadir={folder}/data", f"--port={port}",
        f"--socket={folder}/socket", "--bind-address=127.0.0.1", f"--log-error={folder}/log",
    ]  # fmt: skip
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    where = {"type": "mysql", "host": "127.0.0.1", "port": port, "database": "test", "user": "root", "tls": {"mode": "disable"}}
    try:
        while subprocess.run([*client(where), "-e", "create database if not exists test"], capture_output=True).returncode:
            time.sleep(0.2)
        yield where
    finally:
        process.kill()
        process.wait()
        shutil.rmtree(folder, ignore_errors=True)


def client(where: dict[str, Any]) -> list[str]:
    return ["mariadb", "--no-defaults", f"-h{where['host']}", f"-P{where['port']}", f"-u{where['user']}", "--skip-ssl"]


def run(quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    peaks: list[float] = []
    with cluster() as target, server() as where:
        for statement in _SOURCE.format(count=count).split(";\n"):
            subprocess.run([*client(where), "test", "-e", statement], check=True)

        def ours() -> float:
            found = child("bench.mysql", json.dumps(where), json.dumps(target), str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, theirs = in_turn(3 if quick else 5, ours, lambda: by_hand(where, target))
    return result(mine, theirs, max(peaks))


def by_hand(where: dict[str, Any], target: dict[str, Any]) -> float:
    psql(target, "drop table if exists public.copied", f"create table public.copied ({_COLUMNS.format(key='primary key')})")
    dump = " ".join(client(where)) + f' test --quick -BN -e "{_SELECT}"'
    # The client writes NULL as a word.
    command = f"""{dump} | psql -qX "{address(target)}" -c "\\copy public.copied from stdin (null 'NULL')" """
    return timed(lambda: subprocess.run(command, shell=True, check=True))


def main(source: str, place: str, count: int) -> None:
    where, target = json.loads(source), json.loads(place)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        schema = "ours_" + folder.name.replace("-", "_").lower()
        documents = [{"source": "bench", **where}, {"warehouse": "marsh", **target, "schema": schema}]
        feed = "feed: bench\nfrom: bench\ninto: marsh\ntables: [{table: wide, write: replace}]"
        one_run.prepared(folder, "\n---\n".join([*map(json.dumps, documents), feed]))
        seconds = one_run.run(folder, "bench")
        from reedbasket.store import Store, runs

        read = runs.get(Store(folder), 1)["totals"]["read"]
        assert read == count, f"{read} read, not {count}"
        psql(target, f"drop schema {schema} cascade")
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
