"""What the warehouse cases share: rows in columns, places to load into, our loader, and the baselines written by hand."""

from __future__ import annotations

import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pyarrow as pa

from reedbasket.core.allowed_paths import Places
from reedbasket.core.records.layout import TableLayout
from reedbasket.core.records.structure import ColumnShape
from reedbasket.core.shaping import Family, TableBatch, TableShape
from reedbasket.core.spec.warehouse import Warehouse as Definition
from reedbasket.core.warehouses import LoadTarget, Position, Warehouse, open_warehouse
from tests.support.certificates import Authority

BATCH = 50_000
# Twelve mixed columns: (name, kind, Arrow type).
COLUMNS: list[tuple[str, Any, pa.DataType]] = [
    ("id", "int64", pa.int64()),
    ("code", "text", pa.string()),
    ("name", "text", pa.string()),
    ("state", "text", pa.string()),
    ("weight", "double", pa.float64()),
    ("price", "double", pa.float64()),
    ("count", "int64", pa.int64()),
    ("checked", "bool", pa.bool_()),
    ("made_on", "date", pa.date32()),
    ("made_at", "timestamp", pa.timestamp("us", "UTC")),
    ("turn", "int64", pa.int64()),
    ("updated_at", "timestamp", pa.timestamp("us", "UTC")),
]
NAMES = [name for name, _, _ in COLUMNS]
STATES = ["open", "closed", "waiting", "under way"]
FAMILY = Family([TableLayout("records", None, "text", [ColumnShape(n, k) for n, k, _ in COLUMNS])], ["id"], "updated_at", "key")


def rows(numbers: Sequence[int], turn: int) -> pa.Table:
    """Arrow rows; those of another turn differ in name, weight and turn."""
    count = len(numbers)
    ids = pa.array(numbers, pa.int64())
    micros = [1_767_225_600_000_000 + n * 1_000 for n in numbers]
    made: list[Any] = [
        ids,
        pa.array([f"R-{n:08d}" for n in numbers]),
        pa.array([f"record {n} as of {turn}" for n in numbers]),
        pa.array([STATES[n % 4] for n in numbers]),
        pa.array([n * 0.5 + turn for n in numbers]),
        pa.array([(n % 1000) * 1.25 for n in numbers]),
        pa.array([n % 97 for n in numbers]),
        pa.array([n % 3 == 0 for n in numbers]),
        pa.array([20_000 + n % 365 for n in numbers], pa.int32()).cast(pa.date32()),
        pa.array(micros, pa.timestamp("us", "UTC")),
        pa.array([turn] * count, pa.int64()),
        pa.array(micros, pa.timestamp("us", "UTC")),
    ]
    return pa.table(made, names=NAMES)


def batches(table: pa.Table) -> Iterator[pa.Table]:
    for start in range(0, table.num_rows, BATCH):
        yield table.slice(start, BATCH)


def load_ours(warehouse: Warehouse, parts: Sequence[pa.Table], write: Any, run: int = 1) -> Any:
    """As a run does it, from Arrow batches: stage, merge, ledger and counts."""
    state = warehouse.state("bench", "records")
    load = warehouse.begin(LoadTarget(run, "bench", "bench", "records", "records", write, ["id"], "key"), state)
    first = 0
    for part in parts:
        columns = {name: (kind, part.column(name).combine_chunks()) for name, kind, _ in COLUMNS}
        load.stage(FAMILY, [TableBatch("records", part.num_rows, range(first, first + part.num_rows), columns=columns)])
        first += part.num_rows
    now = datetime.now(UTC)
    lines = load.commit(FAMILY, TableShape("records").to_data(), Position(None, None, 0, 0, 0, now), now)
    load.close()
    return lines[0]


@contextmanager
def cluster(*settings: str) -> Iterator[dict[str, Any]]:
    """A private PostgreSQL with its own defaults and TLS, as somebody would run it; gone at the end."""
    folder = Path(tempfile.mkdtemp(prefix="reed-bench-pg-"))
    binaries = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
    user: dict[str, Any] = {"user": "postgres", "group": "postgres"} if os.geteuid() == 0 else {}
    if user:
        shutil.chown(folder, "postgres", "postgres")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]

    def do(program: str, *arguments: str) -> None:
        subprocess.run([str(binaries / program), *arguments], check=True, stdout=subprocess.DEVNULL, cwd=folder, **user)

    data = str(folder / "data")
    do("initdb", "-D", data, "-U", "boss", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8")
    options = f"-p {port} -k {folder} -c listen_addresses=127.0.0.1 -c max_wal_size=4GB -c autovacuum=off -c fsync=off"
    options += "".join(f" -c {setting}" for setting in [*settings, *_tls(folder, user)])
    do("pg_ctl", "-D", data, "-l", str(folder / "log"), "-o", options, "-w", "start")
    try:
        yield {
            "type": "postgres",
            "host": "127.0.0.1",
            "port": port,
            "database": "postgres",
            "user": "boss",
            "tls": {"mode": "require"},
        }
    finally:
        do("pg_ctl", "-D", data, "-m", "immediate", "stop")
        shutil.rmtree(folder, ignore_errors=True)


def _tls(folder: Path, user: dict[str, Any]) -> list[str]:
    """What tells a server to speak TLS, as Debian's does once it is installed."""
    files = [folder / "server.crt", folder / "server.key"]
    Authority(folder, "bench").issue("localhost", *files)
    for file in files if user else ():
        shutil.chown(file, "postgres", "postgres")
    return ["ssl=on", f"ssl_cert_file={files[0]}", f"ssl_key_file={files[1]}"]


def opened(where: dict[str, Any], schema: str = "") -> Warehouse:
    made = {"warehouse": "bench", **where}
    if schema:
        made["schema"] = schema
    return open_warehouse(Definition.model_validate(made), Places.anywhere(Path("/")), lambda _: "")


def sqlite_values(part: pa.Table) -> list[Any]:
    """Columns as sqlite3 binds them, each the quickest way: times without zone, then the zone's letter."""
    import pyarrow.compute as pc

    made = []
    for name, kind, _ in COLUMNS:
        column = part.column(name)
        if kind == "timestamp":
            text = column.cast(pa.int64()).cast(pa.timestamp("us")).cast(pa.string())
            column = pc.binary_join_element_wise(text, "Z", "")
        elif kind == "date":
            column = column.cast(pa.string())
        made.append(column.to_pylist())
    return made


SQLITE_TABLE = """create table records (id integer, code text, name text, state text, weight real, price real, count integer,
    checked integer, made_on text, made_at text, turn integer, updated_at text)"""
OTHER_TABLE = """create table {} (id bigint, code text, name text, state text, weight double precision, price double precision,
    count bigint, checked boolean, made_on date, made_at timestamp with time zone, turn bigint,
    updated_at timestamp with time zone)"""


MYSQL_TABLE = """create {} (id bigint{}, code varchar(100), name varchar(100), state varchar(100), weight double, price double,
    count bigint, checked boolean, made_on date, made_at datetime(6), turn bigint, updated_at datetime(6)) character set utf8mb4"""


def mysql_by_hand(where: dict[str, Any], database: str) -> Any:
    import pymysql

    db = pymysql.connect(
        host=where["host"], port=where["port"], user=where["user"], local_infile=True, charset="utf8mb4", ssl_disabled=True
    )
    db.query(f"create database if not exists {database}")
    db.select_db(database)
    return db


def mysql_load(db: Any, table: str, part: pa.Table) -> None:
    """By a file, as the statement wants it."""
    import pyarrow.compute as pc
    from pyarrow import csv

    plain = {name: part.column(name) for name in NAMES}
    for name in ("made_at", "updated_at"):
        plain[name] = plain[name].cast(pa.timestamp("us"))
    plain["checked"] = pc.cast(plain["checked"], pa.int8())
    with tempfile.NamedTemporaryFile() as file:
        csv.write_csv(pa.table(plain), file.name, csv.WriteOptions(include_header=False))
        db.query(
            f"""load data local infile '{file.name}' into table {table} fields terminated by ',' optionally enclosed by '"'"""
        )


def sqlite_by_hand(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, isolation_level=None)
    db.execute("pragma journal_mode = wal")
    db.execute("pragma synchronous = normal")
    db.execute("pragma temp_store = file")
    db.execute("pragma cache_size = -64000")
    return db


def timed(work: Any) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began
