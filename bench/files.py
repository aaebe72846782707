"""csv-pg, csv-duckdb, csv-duckdb-gz, csv-sqlite, parquet-duckdb: a file of 1,000,000 rows x 12 mixed columns, taken for the first time.

Ours is a whole run as a worker does it: listed, sniffed, typed, loaded with its line in the manifest. The baselines are the warehouses'
own ways, told all types: psql's \\copy, DuckDB's COPY and INSERT … SELECT from the file, the sqlite3 shell's .import. The gzip file is
held against COPY of the same file plain.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any

from . import one_run
from .databases import address, psql, timed
from .measure import child, in_turn, own_peak_mb, result
from .warehouses import cluster

WHAT = "a file of 1,000,000 rows x 12 columns, taken for the first time"
_BOUNDS = {"csv-pg": 0.8, "csv-duckdb": 1.0, "csv-duckdb-gz": 1.1, "csv-sqlite": 1.5, "parquet-duckdb": 1.7}
_ROWS = """select i as id, 'C-' || i as code, 'name of row ' || i as name, ['open', 'closed', 'waiting'][1 + i % 3] as state,
    ((i % 100000) / 100.0)::decimal(12,2) as amount, i * 0.37::double as weight, (i % 1000)::int as qty, i % 2 = 0 as ok,
    (date '2020-01-01' + (i % 2000)::int)::date as day,
    strftime(timestamp '2025-01-01' + to_seconds(i), '%Y-%m-%dT%H:%M:%SZ') as made,
    strftime(timestamp '2025-02-01' + to_seconds(i), '%Y-%m-%dT%H:%M:%SZ') as updated_at,
    case when i % 5 = 0 then null else repeat('n', 30) end as note
    from range(1, {count} + 1) as t(i)"""
# More than elsewhere: one run and the next differ by a fifth here, and some of the bounds lie nearer.
_ROUNDS = 25
_TYPES = (
    "id bigint, code text, name text, state text, amount decimal(12,2), weight double precision, qty int, ok bool, day date, "
    "made timestamptz, updated_at timestamptz, note text"
)


def bound(kind: str) -> str:
    return f"at most {_BOUNDS[kind]}; worker under 300 MB"


def run(kind: str, quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    peaks: list[float] = []
    servers: AbstractContextManager[Any] = cluster() if kind == "csv-pg" else nullcontext({})
    with tempfile.TemporaryDirectory() as name, servers as where:
        folder = Path(name)
        made(folder, count)

        def ours() -> float:
            found = child("bench.files", kind, name, json.dumps(where), str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, theirs = in_turn(3 if quick else _ROUNDS, ours, lambda: by_hand(kind, folder, where))
    return result(mine, theirs, max(peaks))


def made(folder: Path, count: int) -> None:
    import duckdb

    db = duckdb.connect()
    rows = _ROWS.format(count=count)
    for path, form in (("csv/wide.csv", "format csv, header"), ("gz/wide.csv.gz", "format csv, header, compression gzip")):
        (folder / path).parent.mkdir()
        db.execute(f"copy ({rows}) to '{folder}/{path}' ({form})")
    (folder / "parquet").mkdir()
    typed = f"select * replace (made::timestamptz as made, updated_at::timestamptz as updated_at) from ({rows})"
    db.execute(f"set timezone = 'UTC'; copy ({typed}) to '{folder}/parquet/wide.parquet' (format parquet)")
    db.close()
    for path in folder.glob("*/wide.*"):
        os.utime(path, (path.stat().st_mtime - 60,) * 2)


def by_hand(kind: str, folder: Path, where: dict[str, Any]) -> float:
    csv = folder / "csv/wide.csv"
    if kind == "csv-pg":
        psql(where, "drop table if exists public.copied", f"create table public.copied ({_TYPES})")
        copy = f"\\copy public.copied from '{csv}' (format csv, header true)"
        return timed(lambda: subprocess.run(["psql", "-qX", address(where), "-c", copy], check=True))
    with tempfile.TemporaryDirectory() as name:
        if kind == "csv-sqlite":
            table = "create table wide (id integer, code, name, state, amount, weight, qty, ok, day, made, updated_at, note)"
            command = ["sqlite3", f"{name}/x.db", table, ".mode csv", f'.import --skip 1 "{csv}" wide']
            return timed(lambda: subprocess.run(command, check=True))
        return float(child("bench.files", "by-duckdb", kind, str(folder), name)["seconds"])


def by_duckdb(kind: str, folder: str, name: str) -> None:
    """In a process of its own, as ours is; its start is not counted on either side."""
    import duckdb

    def work() -> None:
        db = duckdb.connect(f"{name}/x.duckdb")
        db.execute(f"create table wide ({_TYPES})")
        if kind.startswith("parquet"):
            db.execute(f"insert into wide select * from '{folder}/parquet/wide.parquet'")
        else:
            db.execute(f"copy wide from '{folder}/csv/wide.csv' (format csv, header)")
        db.close()

    print(json.dumps({"seconds": timed(work)}))


def main(kind: str, files: str, place: str, count: int) -> None:
    where = json.loads(place)
    form = {"csv-duckdb-gz": "gz", "parquet-duckdb": "parquet"}.get(kind, "csv")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        engine = kind.split("-")[1]
        target = {**where, "schema": "ours_" + folder.name.replace("-", "_").lower()} if engine == "pg" else {
            "type": engine, "path": f"marsh.{engine}",
        }  # fmt: skip
        source = {"source": "bench", "type": "files", "path": f"{files}/{form}"}
        # DuckDB writes rows of a key in any order, as its own COPY may not.
        key = ", primary_key: id" if engine == "duckdb" else ""
        one_run.prepared(folder, basket(source, target, f"{{table: wide, files: 'wide.*'{key}}}"))
        seconds = one_run.run(folder, "bench")
        from reedbasket.store import Store, runs

        read = runs.get(Store(folder), 1)["totals"]["read"]
        if engine == "pg":
            psql(where, f"drop schema {target['schema']} cascade")
    if read != count:
        raise SystemExit(f"read {read}, expected {count}")
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


def basket(source: dict[str, Any], target: dict[str, Any], table: str, more: str = "") -> str:
    documents = [json.dumps(source), json.dumps({"warehouse": "marsh", **target}), *([more] if more else [])]
    return "\n---\n".join([*documents, f"feed: bench\nfrom: bench\ninto: marsh\ntables: [{table}]"])


if __name__ == "__main__":
    if sys.argv[1] == "by-duckdb":
        by_duckdb(*sys.argv[2:])
    else:
        main(sys.argv[1], sys.argv[2], sys.argv[3], int(sys.argv[4]))
