"""pg-delta: 1,000,000 rows at a PostgreSQL, 500 of them changed since the last run: taken by cursor and merged into PostgreSQL.

Ours is a whole run as a worker does it. The baseline is the bare query through psql's binary COPY into a temp table, and the merge.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from . import one_run
from .databases import SOURCE, address, basket, psql, timed
from .measure import child, own_peak_mb, result
from .warehouses import cluster

WHAT = "1,000,000 rows at PostgreSQL, 500 changed: a whole run"
BOUND = "at most 3, and 0.6 s"
_TABLE = "{table: wide, changes: {by: cursor, column: updated_at}}"
_CHANGE = "update public.wide set note = 'turn {turn}', updated_at = now() where id % 2000 = {turn}"
_MERGE = """set client_min_messages = error; begin; create temp table fresh (like public.copied) on commit drop;
copy fresh from stdin (format binary); insert into public.copied select * from fresh on conflict (id) do update set
(code, name, state, amount, weight, qty, ok, day, made, updated_at, note) = (excluded.code, excluded.name, excluded.state,
excluded.amount, excluded.weight, excluded.qty, excluded.ok, excluded.day, excluded.made, excluded.updated_at, excluded.note); commit"""


def run(quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    with cluster() as where:
        psql(where, SOURCE.format(count=count))
        psql(
            where,
            "create table public.copied (like public.wide including all);\ninsert into public.copied select * from public.wide",
        )
        found = child("bench.pg_delta", json.dumps(where), str(3 if quick else 7))
    return result(found["ours"], found["hand"], found["rss_mb"])


def by_hand(where: dict[str, Any], since: str) -> float:
    ask = f'psql -qX "{address(where)}"'
    query = f"copy (select * from public.wide where updated_at >= '{since}') to stdout (format binary)"
    commands = " ".join(f'-c "{statement.strip()}"' for statement in _MERGE.replace("\n", " ").split(";"))
    return timed(lambda: subprocess.run(f'{ask} -c "{query}" | {ask} {commands}', shell=True, check=True))


def main(place: str, rounds: int) -> None:
    where = json.loads(place)
    ours, hand = [], []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        target = {**where, "schema": "ours"}
        one_run.prepared(folder, basket(where, target, _TABLE))
        one_run.run(folder, "bench")
        for turn in range(1, rounds + 2):
            since = subprocess.run(
                ["psql", "-qXAt", address(where), "-c", "select now()"], capture_output=True, text=True, check=True
            ).stdout.strip()
            psql(where, _CHANGE.format(turn=turn))
            ours.append(one_run.run(folder, "bench"))
            hand.append(by_hand(where, since))
    ours, hand = sorted(ours[1:]), sorted(hand[1:])
    print(json.dumps({"ours": ours[len(ours) // 2], "hand": hand[len(hand) // 2], "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
