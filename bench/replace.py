"""replace-sqlite, replace-duckdb, replace-pg, mysql-replace: 1,000,000 rows x 12 columns from Arrow batches, replacing a table.

Ours builds beside, sees to one row a key, swaps in one transaction. The baseline writes the same rows into a new table with the
same key in one transaction: executemany, DuckDB's own insert, ADBC ingest, LOAD DATA LOCAL.
"""

from __future__ import annotations

import json
import sys
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from . import warehouses as w
from .measure import child, in_turn, own_peak_mb, result
from .merge import _pg, places

WHAT = "1,000,000 rows x 12 columns replaced, from Arrow batches"
BOUNDS = {"sqlite": 1.1, "duckdb": 1.15, "postgres": 1.15, "mysql": 1.3}


def bound(engine: str) -> str:
    return f"at most {BOUNDS[engine]}"


def run(engine: str, quick: bool) -> dict[str, Any]:
    size = 200_000 if quick else 1_000_000
    peaks: list[float] = []
    with ExitStack() as stack:
        place = places(engine, ["ours", "hand"], stack)

        def ours() -> float:
            found = child("bench.replace", "ours", place["ours"], str(size))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, theirs = in_turn(
            3 if quick else 5, ours, lambda: float(child("bench.replace", "hand", place["hand"], str(size))["seconds"])
        )
    return result(mine, theirs, max(peaks))


def parts(size: int) -> Any:
    """Made on the way, so that memory tells of the loader and not of the data; its time is taken off."""
    for start in range(0, size, w.BATCH):
        yield w.rows(range(start, min(start + w.BATCH, size)), 1)


class Clocked:
    """Iterates, and knows how long making the parts took."""

    def __init__(self, size: int) -> None:
        self.made, self._parts = 0.0, parts(size)

    def __iter__(self) -> Any:
        while True:
            part: list[Any] = []
            self.made += w.timed(lambda into=part: into.extend([next(self._parts, None)]))
            if part[0] is None:
                return
            yield part[0]


def ours(where: dict[str, Any], size: int) -> float:
    warehouse, clocked, line = w.opened(where), Clocked(size), []
    seconds = w.timed(lambda: line.append(w.load_ours(warehouse, clocked, "replace")))  # type: ignore[arg-type]
    warehouse.close()
    assert line[0].inserted == size
    return seconds - clocked.made


def by_hand(where: dict[str, Any], size: int) -> float:
    clocked = Clocked(size)
    if where["type"] == "sqlite":

        def work() -> None:
            db = w.sqlite_by_hand(Path(where["path"]))
            db.execute("begin immediate")
            db.execute(w.SQLITE_TABLE.replace("records", "fresh"))
            for part in clocked:
                db.executemany(f"insert into fresh values ({','.join('?' * 12)})", zip(*w.sqlite_values(part)))
            db.execute("drop table if exists records")
            db.execute("alter table fresh rename to records")
            db.execute("create unique index records_key on records (id)")
            db.execute("commit")
            db.close()

    elif where["type"] == "duckdb":
        import duckdb

        def work() -> None:
            con = duckdb.connect(where["path"], config={"memory_limit": "100MB"})
            con.execute("begin")
            con.execute(w.OTHER_TABLE.format("fresh"))
            for part in clocked:
                con.register("part", part)
                con.execute("insert into fresh select * from part")
            con.execute("drop table if exists records")
            con.execute("alter table fresh rename to records")
            con.execute("commit")
            con.close()

    elif where["type"] == "mysql":

        def work() -> None:
            db = w.mysql_by_hand(where, where["database"])
            db.query("drop table if exists fresh, earlier")
            db.query(w.MYSQL_TABLE.format("table fresh", " primary key"))
            for part in clocked:
                w.mysql_load(db, "fresh", part)
            db.commit()
            db.query("create table if not exists records like fresh")
            db.query("rename table records to earlier, fresh to records")
            db.query("drop table earlier")
            db.close()

    else:

        def work() -> None:
            db = _pg(where)
            cursor = db.cursor()
            cursor.execute(f"create schema if not exists {where['schema']}")
            cursor.execute(w.OTHER_TABLE.format("fresh"))
            for part in clocked:
                cursor.adbc_ingest("fresh", part, mode="append", db_schema_name=where["schema"])
            cursor.execute("drop table if exists records")
            cursor.execute("alter table fresh rename to records")
            cursor.execute("create unique index on records (id)")
            db.commit()
            db.close()

    return w.timed(work) - clocked.made


def main(what: str, place: str, size: int) -> None:
    where = json.loads(place)
    seconds = ours(where, size) if what == "ours" else by_hand(where, size)
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]))
