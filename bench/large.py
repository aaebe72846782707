"""pg-large: 10,000,000 rows x 12 columns from PostgreSQL into DuckDB, by replace, against ten times the time for 1,000,000.

Both are whole runs of ours, as a worker does them. Not among `make bench`: `make bench-large` runs it, in some five minutes.
"""

from __future__ import annotations

import json
from typing import Any

from .databases import SOURCE, psql
from .measure import child, result
from .warehouses import cluster

WHAT = "10,000,000 rows x 12 columns from PostgreSQL into DuckDB, against ten times 1,000,000"
BOUND = "at most 1.15; memory as at 1,000,000"


def run(quick: bool) -> dict[str, Any]:
    count = 200_000 if quick else 1_000_000
    with cluster() as where:

        def ours(rows: int) -> dict[str, Any]:
            psql(where, SOURCE.format(count=rows))
            child("bench.databases", "duckdb", json.dumps(where), str(rows)) if rows == count else None
            return child("bench.databases", "duckdb", json.dumps(where), str(rows))

        small = ours(count)
        large = ours(10 * count)
    note = f"worker {large['rss_mb']:.0f} MB with {10 * count:,} rows, {small['rss_mb']:.0f} MB with {count:,}"
    return result(large["seconds"], 10 * small["seconds"], large["rss_mb"], notes=[note])
