"""code-json: 200,000 nested records in pages of 500 by a connector in Python that yields dicts, beside the same API declared.
code-arrow: 1,000,000 rows of Arrow by a connector that yields batches, beside the same files taken from a folder. Both into SQLite, and
into DuckDB for Arrow. The process of the connector is beside the worker, whose memory is told.
"""

from __future__ import annotations

import functools
import http.server
import json
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from . import api, one_run
from .api_server import serving
from .measure import child, in_turn, own_peak_mb, result

WHAT = "records of an API by a connector in Python, beside the same declared; Arrow by one, beside the same files"
_ROWS, _PARTS = 1_000_000, 20

PROGRAM = """
import io
import pyarrow as pa
from reedbasket.kit import Connector, Table, Url

class Bench(Connector):
    url: Url
    rate_limit = {"concurrency": 4}
    records = Table(primary_key="id", cursor="updated_at", from_="2026-01-01T00:00:00Z", overlap="5m", sorted=True)
    rows = Table(primary_key="id")

    def read_records(self, position):
        query = {"since": position.from_}
        while True:
            page = self.http.get("/records", query).json()
            yield page["items"]
            if page["meta"]["next"] is None:
                return
            query["after"] = page["meta"]["next"]

    def read_rows(self, position):
        for part in range(PARTS):
            opened = pa.ipc.open_file(io.BytesIO(self.http.get(f"/part-{part:02}.arrow").body))
            yield from (opened.get_batch(n) for n in range(opened.num_record_batches))
"""
BASKET = """connector: bench-code
type: python
code: bench.py
---
source: bench
connector: bench-code
settings: {{url: "{url}"}}
---
{where}
---
feed: bench
from: bench
into: marsh
tables: [{table}]
"""
FILES = """source: bench
type: files
path: {folder}
---
{where}
---
feed: bench
from: bench
into: marsh
tables: [{{table: rows, files: "*.arrow", primary_key: id, write: upsert}}]
"""


def bound(kind: str) -> str:
    return "at most 1.25 of the declared" if kind == "json" else "at most 1.0 of the files"


def run(kind: str, quick: bool) -> dict[str, Any]:
    peaks: list[float] = []

    def one(which: str, *given: str) -> float:
        found = child("bench.code", which, *given)
        if which not in ("declared", "files"):
            peaks.append(found["rss_mb"])
        return float(found["seconds"])

    rounds = 3 if quick else 5
    if kind == "json":
        count = 50_000 if quick else 200_000
        with serving(count) as url:
            mine, theirs = in_turn(rounds, lambda: one("json", url), lambda: one("declared", url))
    else:
        with tempfile.TemporaryDirectory() as name:
            _parts(Path(name), _ROWS // 5 if quick else _ROWS)
            with _served(Path(name)) as url:
                mine, theirs = in_turn(rounds, lambda: one("arrow", url), lambda: one("files", name))
    return result(mine, theirs, max(peaks))


def _parts(folder: Path, rows: int) -> None:
    import pyarrow as pa

    each = rows // _PARTS
    for part in range(_PARTS):
        ids = range(part * each, (part + 1) * each)
        table = pa.table(
            {
                "id": pa.array(ids, pa.int64()),
                "name": pa.array([f"row {n} of the tide table" for n in ids]),
                "state": pa.array([("open", "closed", "waiting")[n % 3] for n in ids]),
                "weight": pa.array([n * 0.25 for n in ids]),
                "checked": pa.array([n % 2 == 0 for n in ids]),
                "at": pa.array([1_767_225_600_000_000 + n * 1000 for n in ids], pa.timestamp("us", "UTC")),
            }
        )
        with pa.ipc.new_file(str(folder / f"part-{part:02}.arrow"), table.schema) as file:
            file.write_table(table, 8192)


@contextmanager
def _served(folder: Path) -> Iterator[str]:
    class Quiet(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def main(which: str, where: str) -> None:
    arrow = which in ("arrow", "files")
    place = {"type": "duckdb", "path": "marsh.duckdb"} if arrow else {"type": "sqlite", "path": "marsh.db"}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        told = json.dumps({"warehouse": "marsh", **place})
        if which == "declared":
            seconds = api.run_ours(where, folder, place)
        else:
            if which == "files":
                one_run.prepared(folder, FILES.format(folder=where, where=told))
            else:
                table = "rows" if arrow else "records"
                text = BASKET.format(url=where, where=told, table=table)
                one_run.prepared(folder, text, program=PROGRAM.replace("PARTS", str(_PARTS)))
            seconds = one_run.run(folder, "bench")
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
