"""pg-pg, pg-pg-shaped, pg-duckdb, pg-sqlite: 1,000,000 rows x 12 mixed columns from PostgreSQL by `replace`; pg-delta: 500 of them
changed, by cursor.

Ours is a whole run as a worker does it. The baselines are the servers' own programs in a pipe: psql's binary COPY into psql's, psql's
CSV into DuckDB's COPY or into the sqlite3 shell; for the delta the bare query and the merge by hand.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from . import one_run
from .measure import child, in_turn, own_peak_mb, result
from .warehouses import cluster

WHAT = "1,000,000 rows x 12 columns from PostgreSQL, by replace"
# With TLS on both sides, as it is installed.
_BOUNDS = {"pg": 1.3, "pg-shaped": 1.7, "duckdb": 0.85, "sqlite": 1.3}
SOURCE = """
drop table if exists public.wide;
create table public.wide (id bigint primary key, code text, name text, state varchar(10), amount numeric(12,2), weight float8, qty int,
  ok bool, day date, made timestamptz, updated_at timestamptz not null, note text);
insert into public.wide select g, 'C-' || g, 'name of row ' || g, (array['open', 'closed', 'waiting'])[1 + g % 3],
  (g % 100000) / 100.0, g * 0.37, g % 1000, g % 2 = 0, date '2020-01-01' + (g % 2000)::int,
  timestamptz '2025-01-01' + g * interval '1 second', timestamptz '2025-02-01' + g * interval '1 second',
  case when g % 5 = 0 then null else repeat('n', 30) end
from generate_series(1, {count}) g;
create index on public.wide (updated_at);
vacuum analyze public.wide;
"""
_COLUMNS = (
    "id bigint {key}, code text, name text, state text, amount decimal(12,2), weight double precision, qty int, ok bool, day date, "
    "made timestamptz, updated_at timestamptz, note text"
)
_SHAPED = (
    "{table: wide, rename: {code: part_code, name: part_name}, compute: {worth: amount * qty}, hash: note, "
    "exclude_columns: state, write: replace}"
)


def bound(kind: str) -> str:
    return f"at most {_BOUNDS[kind]}; worker under 300 MB"


def run(kind: str, quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    peaks: list[float] = []
    with cluster() as where:
        psql(where, SOURCE.format(count=count))
        place = json.dumps(where)

        def ours() -> float:
            found = child("bench.databases", kind, place, str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, theirs = in_turn(3 if quick else 5, ours, lambda: by_hand(kind, where))
    return result(mine, theirs, max(peaks))


def psql(where: dict[str, Any], *texts: str) -> None:
    """Statements, each ended by a semicolon at its line's end."""
    for statement in (s for text in texts for s in text.split(";\n") if s.strip()):
        subprocess.run(["psql", "-qX", address(where), "-c", statement], check=True, stdout=subprocess.DEVNULL)


def address(where: dict[str, Any]) -> str:
    found = f"host={where['host']} port={where['port']} user={where['user']} dbname={where['database']}"
    return f"{found} sslmode=require"


def by_hand(kind: str, where: dict[str, Any]) -> float:
    ask = f'psql -qX "{address(where)}"'
    with tempfile.TemporaryDirectory() as name:
        if kind.startswith("pg"):
            psql(
                where,
                "drop table if exists public.copied",
                f"create table public.copied ({_COLUMNS.format(key='primary key')})",
            )
            command = (
                f'{ask} -c "copy public.wide to stdout (format binary)" | '
                f'{ask} -c begin -c "copy public.copied from stdin (format binary)" -c commit'
            )
            return timed(lambda: subprocess.run(command, shell=True, check=True))
        csv = f'{ask} -c "copy public.wide to stdout (format csv)"'
        if kind == "sqlite":
            table = "create table wide (id integer primary key, code, name, state, amount, weight, qty, ok, day, made, updated_at, note)"
            command = f'{csv} | sqlite3 {name}/x.db "{table}" ".mode csv" ".import /dev/stdin wide"'
            return timed(lambda: subprocess.run(command, shell=True, check=True))

        def through_file() -> None:
            import duckdb

            subprocess.run(f"{csv} > {name}/x.csv", shell=True, check=True)
            db = duckdb.connect(f"{name}/x.duckdb")
            db.execute(f"create table wide ({_COLUMNS.format(key='')})")
            db.execute(f"copy wide from '{name}/x.csv' (format csv, header false)")
            db.close()

        return timed(through_file)


def timed(work: Callable[[], Any]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def basket(where: dict[str, Any], target: dict[str, Any], table: str) -> str:
    source = {
        "source": "bench",
        **{k: where[k] for k in ("type", "host", "port", "database", "user", "tls")},
    }
    documents = [json.dumps(source), json.dumps({"warehouse": "marsh", **target})]
    return "\n---\n".join([*documents, f"feed: bench\nfrom: bench\ninto: marsh\ntables: [{table}]"])


def target_of(kind: str, where: dict[str, Any], folder: Path) -> dict[str, Any]:
    if kind.startswith("pg"):
        return {**where, "schema": "ours_" + folder.name.replace("-", "_").lower()}
    return {"type": kind, "path": f"marsh.{kind}"}


def main(kind: str, place: str, count: int) -> None:
    where = json.loads(place)
    table = _SHAPED if kind == "pg-shaped" else "{table: wide, write: replace}"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        target = target_of(kind, where, folder)
        one_run.prepared(folder, basket(where, target, table))
        seconds = one_run.run(folder, "bench")
        from reedbasket.store import Store, runs

        read = runs.get(Store(folder), 1)["totals"]["read"]
        assert read == count, f"{read} read, not {count}"
        if kind.startswith("pg"):
            psql(where, f"drop schema {target['schema']} cascade")
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
