"""pg-parallel: a table of PostgreSQL into DuckDB in four ranges at once, against one statement.

Both are whole runs of ours, as a worker does them: 1,000,000 rows over the loopback, and 400,000 through a stand-in for a far network,
which lets a connection have 64 kB each 20 ms.
"""

from __future__ import annotations

import json
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from itertools import cycle
from pathlib import Path
from typing import Any

from . import one_run
from .databases import SOURCE, basket, psql
from .measure import child, in_turn, own_peak_mb, result
from .warehouses import cluster

WHAT = "1,000,000 rows from PostgreSQL into DuckDB in four ranges at once, against one statement of ours"
BOUND = "at most 1.1; 2.5 times as fast where each fetch takes 20 ms; worker under 300 MB"
_RANGES = "{table: wide, write: replace, parallel_read: {parts: 4, concurrency: 4}}"
# On two full cores both do the same work; medians come out up to 5 % apart by what else the machine does.
_ROUNDS = 9
_FETCH_BYTES, _FETCH_SECONDS = 64 * 1024, 0.02


def run(quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    peaks: list[float] = []
    statements: dict[str, set[int]] = {"near": set(), "far": set()}
    # A server for each: what one way of reading leaves in a server's memory would serve the other. They change places now and then, so
    # that none has the better one.
    with cluster() as where, cluster() as other:
        for server in (where, other):
            psql(server, SOURCE.format(count=count))

        def ours(table: str, place: dict[str, Any], expected: int) -> float:
            found = child("bench.pg_parallel", json.dumps(place), table, str(expected))
            peaks.append(found["rss_mb"])
            if table == _RANGES:
                statements["near" if expected == count else "far"].add(found["statements"])
            return float(found["seconds"])

        servers, others = cycle([where, where, other, other]), cycle([other, other, where, where])
        four, one = in_turn(
            3 if quick else _ROUNDS,
            lambda: ours(_RANGES, next(servers), count),
            lambda: ours("{table: wide, write: replace}", next(others), count),
        )
        far_count = count * 2 // 5
        psql(where, f"delete from public.wide where id > {far_count}", "vacuum analyze public.wide")
        with far_away(where) as far:
            far_four, far_one = in_turn(
                2, lambda: ours(_RANGES, far, far_count), lambda: ours("{table: wide, write: replace}", far, far_count)
            )
    note = f"64 kB a fetch of 20 ms, {far_count:,} rows: {far_one / far_four:.2f} times faster ({far_four:.2f} against {far_one:.2f} s)"
    asked = {of: " to ".join(str(n) for n in sorted({min(found), max(found)})) for of, found in statements.items()}
    return result(
        four, one, max(peaks), notes=[note, f"statements of a run in parallel_read: {asked['near']}; from afar {asked['far']}"]
    )


@contextmanager
def far_away(where: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The same server behind a network on which a fetch takes its time."""
    listener = socket.create_server(("127.0.0.1", 0))

    def pump(source: socket.socket, target: socket.socket, slow: bool) -> None:
        with suppress(OSError):  # the other direction has closed it
            while data := source.recv(_FETCH_BYTES):
                if slow:
                    time.sleep(_FETCH_SECONDS * len(data) / _FETCH_BYTES)
                target.sendall(data)
        target.close()

    def accept() -> None:
        while True:
            try:
                near, _ = listener.accept()
            except OSError:
                return
            far = socket.create_connection((where["host"], where["port"]))
            far.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _FETCH_BYTES)
            threading.Thread(target=pump, args=(near, far, False), daemon=True).start()
            threading.Thread(target=pump, args=(far, near, True), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    yield {**where, "port": listener.getsockname()[1]}
    listener.close()


def main(place: str, table: str, count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        one_run.prepared(folder, basket(json.loads(place), {"type": "duckdb", "path": "marsh.duckdb"}, table))
        seconds = one_run.run(folder, "bench")
        from reedbasket.store import Store, runs

        totals = runs.get(Store(folder), 1)["totals"]
        assert totals["read"] == count, f"{totals['read']} read, not {count}"
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb(), "statements": totals["requests"]}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
