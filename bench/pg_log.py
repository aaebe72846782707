"""pg-log: 200,000 changes out of PostgreSQL's log, in one transaction and in 20,000, read, decoded and merged into PostgreSQL.

Ours is a whole run as a worker does it. The baseline is pg_recvlogical into a file, and the merge by hand of the changed rows, which
it finds ready in a file: it decodes nothing. Memory is also taken of one transaction with 2,000,000 changes.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median
from typing import Any

from . import one_run
from .databases import SOURCE, address, basket, psql, timed
from .measure import child, own_peak_mb, result
from .pg_delta import _MERGE
from .warehouses import cluster

WHAT = "200,000 changes of 1,000,000 rows by PostgreSQL's log: a whole run; the worse of one transaction and 20,000"
BOUND = "at most 2.5; worker under 300 MB, also with 2,000,000 changes in one transaction"
_TABLE = "{table: wide, changes: {by: cdc}}"
_ONE = "update public.wide set note = 'turn {turn}', updated_at = now() where id % {every} = {turn} % {every}"
_MANY = (
    "do $$ begin for i in 0..{transactions} - 1 loop update public.wide set note = 'turn {turn}', updated_at = clock_timestamp() "
    "where id between i * {step} + 1 and i * {step} + 10; commit; end loop; end $$"
)


def run(quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    with cluster("wal_level=logical") as where:
        psql(where, SOURCE.format(count=count))
        psql(
            where,
            "create table public.copied (like public.wide including all);\ninsert into public.copied select * from public.wide;\n"
            "create publication reed_bench for table public.wide;\n"
            "select pg_create_logical_replication_slot('hand', 'pgoutput')",
        )
        found = child("bench.pg_log", json.dumps(where), str(count), str(2 if quick else 3))
    worse = max(("one", "many"), key=lambda way: found[way][0] / found[way][1])
    other = "many" if worse == "one" else "one"
    names = {"one": "one transaction", "many": f"{count // 50:,} transactions"}
    ours, hand = found[other]
    notes = [
        f"{names[worse]} above; {names[other]}: {ours / hand:.2f} ({ours:.2f} s against {hand:.2f} s)",
        f"2 changes of every row in one transaction, {2 * count:,}: worker {found['large_mb']:.0f} MB, {found['large_s']:.1f} s",
    ]
    return result(*found[worse], found["rss_mb"], notes=notes)


def by_hand(where: dict[str, Any], folder: Path, end: str) -> float:
    target = f'-d "{address(where)}" --slot hand'
    receive = f"pg_recvlogical {target} --start -f {folder}/log --endpos {end} --no-loop -o proto_version=1 -o publication_names=reed_bench"
    commands = " ".join(f'-c "{statement.strip()}"' for statement in _MERGE.replace("\n", " ").split(";"))
    merge = f'psql -qX "{address(where)}" {commands} < {folder}/rows'
    return timed(lambda: subprocess.run(f"{receive} && {merge}", shell=True, check=True))


def asked(where: dict[str, Any], query: str) -> str:
    done = subprocess.run(["psql", "-qXAt", address(where), "-c", query], capture_output=True, text=True, check=True)
    return done.stdout.strip()


def main(place: str, count: int, rounds: int) -> None:
    where = json.loads(place)
    times: dict[str, tuple[list[float], list[float]]] = {"one": ([], []), "many": ([], [])}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        one_run.prepared(folder, basket(where, {**where, "schema": "ours"}, _TABLE))
        one_run.run(folder, "bench")
        for turn in range(1, 2 * rounds + 3):
            way = "one" if turn % 2 else "many"
            since = asked(where, "select clock_timestamp()")
            psql(where, (_ONE if way == "one" else _MANY).format(turn=turn, every=5, transactions=count // 50, step=50))
            query = f"copy (select * from public.wide where updated_at >= '{since}') to stdout (format binary)"
            subprocess.run(f'psql -qX "{address(where)}" -c "{query}" > {folder}/rows', shell=True, check=True)
            # A last word in the log, so that the other end knows where to stop.
            end = asked(where, "select pg_current_wal_insert_lsn() from pg_logical_emit_message(false, 'end', 'end')")
            times[way][0].append(one_run.run(folder, "bench"))
            times[way][1].append(by_hand(where, folder, end))
            same = "select count(*) from ours.wide join public.wide using (id) where ours.wide.note is not distinct from public.wide.note"
            assert asked(where, same) == str(count)
        peak = own_peak_mb()
        asked(where, "select pg_drop_replication_slot('hand')")
        asked(where, "begin; " + "; ".join(_ONE.format(turn=turn, every=1) for turn in (1, 2)) + "; commit")
        large = timed(lambda: one_run.run(folder, "bench"))
    found = {way: (median(ours[1:]), median(hand[1:])) for way, (ours, hand) in times.items()}
    print(json.dumps({**found, "rss_mb": peak, "large_mb": own_peak_mb(), "large_s": large}))


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
