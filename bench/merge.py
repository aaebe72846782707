"""merge-sqlite, merge-duckdb, merge-pg, mysql-merge: 100,000 changes, half of them updates, into 2,000,000 rows.

Ours takes Arrow batches through the loader, ledger and counts included. The baseline stages the same batches and merges them with
the engine's fastest set-based statement. The growth is our own time against that into a table of a tenth the size.
"""

from __future__ import annotations

import json
import sys
import tempfile
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from . import mysql
from . import warehouses as w
from .measure import child, in_turn, own_peak_mb, result

WHAT = "100,000 changes (half updates) merged into 2,000,000 rows, from Arrow batches"
CHANGES = 100_000
BOUNDS = {"sqlite": (1.3, 2.0), "duckdb": (1.4, 1.6), "postgres": (1.25, 1.5), "mysql": (1.3, 2.0)}


def bound(engine: str) -> str:
    return f"at most {BOUNDS[engine][0]}; against a table of a tenth at most {BOUNDS[engine][1]}"


def places(engine: str, names: list[str], stack: ExitStack) -> dict[str, str]:
    """{name: how a child finds the place}, as JSON."""
    if engine == "postgres":
        where = stack.enter_context(w.cluster())
        return {name: json.dumps({**where, "schema": name}) for name in names}
    if engine == "mysql":
        where = stack.enter_context(mysql.server())
        for name in names:
            w.mysql_by_hand(where, name).close()
        return {name: json.dumps({**where, "database": name}) for name in names}
    folder = stack.enter_context(tempfile.TemporaryDirectory())
    return {name: json.dumps({"type": engine, "path": f"{folder}/{name}.db"}) for name in names}


def run(engine: str, quick: bool) -> dict[str, Any]:
    large, small = (400_000, 40_000) if quick else (2_000_000, 200_000)
    changes = CHANGES * large // 2_000_000
    peaks: list[float] = []
    turn = [0]
    with ExitStack() as stack:
        place = places(engine, ["ours", "small", "hand"], stack)
        for name, size in (("ours", large), ("small", small), ("hand", large)):
            child("bench.merge", "fill" if name != "hand" else "fill_hand", place[name], str(size), "0", "0")

        def merge(what: str, name: str, size: int) -> float:
            turn[0] += 1
            found = child("bench.merge", what, place[name], str(size), str(changes), str(turn[0]))
            if what == "ours":
                peaks.append(found["rss_mb"])
            return float(found["seconds"])

        rounds = 3 if quick else 9  # what the disk does with the baseline is worth a third of it
        ours, hand = in_turn(rounds, lambda: merge("ours", "ours", large), lambda: merge("hand", "hand", large))
        again, little = in_turn(rounds, lambda: merge("ours", "ours", large), lambda: merge("ours", "small", small))
    growth = again / little
    return result(
        ours, hand, max(peaks), growth=round(growth, 2), notes=[f"{large:,} rows against {small:,}: {growth:.2f} times as long"]
    )


def changed(size: int, changes: int, turn: int) -> Any:
    """Half updates, scattered evenly over the whole table, which is the hard case; half new."""
    half = changes // 2
    step = size // half
    updates = list(range(turn % step, size, step))[:half]
    fresh = list(range(10_000_000 + turn * half, 10_000_000 + (turn + 1) * half))
    return w.rows(updates + fresh, turn)


def fill(where: dict[str, Any], size: int, write: str = "upsert") -> None:
    warehouse = w.opened(where)
    w.load_ours(warehouse, (w.rows(range(s, min(s + w.BATCH, size)), 0) for s in range(0, size, w.BATCH)), write)  # type: ignore[arg-type]
    warehouse.close()


def ours(where: dict[str, Any], table: Any, turn: int, write: str = "upsert") -> float:
    warehouse = w.opened(where)
    line: list[Any] = []
    seconds = w.timed(lambda: line.append(w.load_ours(warehouse, list(w.batches(table)), write, turn)))
    warehouse.close()
    half = table.num_rows // 2
    assert (line[0].inserted, line[0].updated) == (half, half), line
    return seconds


def fill_hand(where: dict[str, Any], size: int) -> None:
    if where["type"] == "sqlite":
        db = w.sqlite_by_hand(Path(where["path"]))
        db.execute(w.SQLITE_TABLE.replace("id integer", "id integer primary key"))
        db.execute("begin")
        for start in range(0, size, w.BATCH):
            values = w.sqlite_values(w.rows(range(start, min(start + w.BATCH, size)), 0))
            db.executemany(f"insert into records values ({','.join('?' * 12)})", zip(*values))
        db.execute("commit")
    elif where["type"] == "duckdb":
        import duckdb

        con = duckdb.connect(where["path"])
        con.execute(w.OTHER_TABLE.format("records"))
        for start in range(0, size, w.BATCH):
            con.register("part", w.rows(range(start, min(start + w.BATCH, size)), 0))
            con.execute("insert into records select * from part")
        con.close()
    elif where["type"] == "mysql":
        db = w.mysql_by_hand(where, where["database"])
        db.query(w.MYSQL_TABLE.format("table records", " primary key"))
        for start in range(0, size, w.BATCH):
            w.mysql_load(db, "records", w.rows(range(start, min(start + w.BATCH, size)), 0))
        db.commit()
    else:
        db = _pg(where)
        cursor = db.cursor()
        cursor.execute(f"create schema {where['schema']}")
        cursor.execute(w.OTHER_TABLE.format("records"))
        for start in range(0, size, w.BATCH):
            cursor.adbc_ingest("records", w.rows(range(start, min(start + w.BATCH, size)), 0), mode="append",
                               db_schema_name=where["schema"])  # fmt: skip
        cursor.execute("alter table records add primary key (id)")
        db.commit()


def _pg(where: dict[str, Any]) -> Any:
    import adbc_driver_postgresql.dbapi

    options = f"options='-c search_path={where['schema']}'"
    return adbc_driver_postgresql.dbapi.connect(
        f"host=127.0.0.1 port={where['port']} user=boss dbname=postgres {options}", autocommit=False
    )


def by_hand(where: dict[str, Any], table: Any) -> float:
    parts = list(w.batches(table))
    sets = ", ".join(f"{n} = excluded.{n}" for n in w.NAMES[1:])
    if where["type"] == "sqlite":

        def sqlite() -> None:
            db = w.sqlite_by_hand(Path(where["path"]))
            db.execute("begin immediate")
            db.execute(w.SQLITE_TABLE.replace("table records", "temp table stage"))
            for part in parts:
                db.executemany(f"insert into stage values ({','.join('?' * 12)})", zip(*w.sqlite_values(part)))
            db.execute(f"insert into records select * from stage where true on conflict (id) do update set {sets}")
            db.execute("commit")
            db.close()

        return w.timed(sqlite)
    if where["type"] == "duckdb":
        import duckdb

        def duck() -> None:
            con = duckdb.connect(where["path"], config={"memory_limit": "100MB"})
            con.execute("begin")
            con.execute(w.OTHER_TABLE.format("stage").replace("create table", "create temp table"))
            for part in parts:
                con.register("part", part)
                con.execute("insert into stage select * from part")
            con.execute("delete from records using stage where records.id = stage.id")
            con.execute("insert into records select * from stage")
            con.execute("commit")
            con.close()

        return w.timed(duck)

    if where["type"] == "mysql":

        def maria() -> None:
            db = w.mysql_by_hand(where, where["database"])
            db.query(w.MYSQL_TABLE.format("temporary table stage", " primary key"))
            for part in parts:
                w.mysql_load(db, "stage", part)
            sets = ", ".join(f"{n} = values({n})" for n in w.NAMES[1:])
            db.query(f"insert into records select * from stage on duplicate key update {sets}")
            db.commit()
            db.close()

        return w.timed(maria)

    def postgres() -> None:
        db = _pg(where)
        cursor = db.cursor()
        cursor.execute(w.OTHER_TABLE.format("stage").replace("create table", "create temp table"))
        for part in parts:
            cursor.adbc_ingest("stage", part, mode="append", temporary=True)
        cursor.execute("analyze stage")
        cursor.execute(f"insert into records select * from stage on conflict (id) do update set {sets}")
        db.commit()
        db.close()

    return w.timed(postgres)


def main(what: str, place: str, size: int, changes: int, turn: int) -> None:
    where, seconds = json.loads(place), 0.0
    if what == "fill":
        fill(where, size)
    elif what == "fill_hand":
        fill_hand(where, size)
    else:
        table = changed(size, changes, turn)
        seconds = ours(where, table, turn) if what == "ours" else by_hand(where, table)
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], *map(int, sys.argv[3:]))
