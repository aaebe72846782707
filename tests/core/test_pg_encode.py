"""Columns encoded for PostgreSQL's binary COPY by ourselves: what the driver's own way of loading leaves in a table."""

from __future__ import annotations

import datetime as dt
import json
import random
from decimal import Decimal
from typing import Any

import adbc_driver_postgresql.dbapi
import pyarrow as pa
import pytest

from reedbasket.core.postgres import COPY_HEADER, COPY_TRAILER
from reedbasket.core.warehouses.postgres.encode import in_binary
from tests.support.dock import Dock

ROWS = 2_000


def columns(rng: random.Random) -> dict[str, tuple[pa.DataType, str, list[Any]]]:
    def some(make: Any) -> list[Any]:
        return [make() for _ in range(ROWS)]

    day, moment = dt.date(1, 1, 1), dt.datetime(1960, 1, 1, tzinfo=dt.UTC)
    edges = [0, 1, -1, 9999, 10_000, -10_001, 10**17, 2**63, -(2**63)]
    return {
        "flag": (pa.bool_(), "boolean", some(lambda: rng.random() < 0.5)),
        "whole": (pa.int64(), "bigint", some(lambda: rng.randint(-(2**63), 2**63 - 1))),
        "part": (pa.float64(), "float8", some(lambda: rng.uniform(-1e9, 1e9))),
        "words": (pa.string(), "text", some(lambda: "ø" * rng.randint(0, 40))),
        "bytes": (pa.binary(), "bytea", some(lambda: bytes(rng.randint(0, 9)))),
        "day": (pa.date32(), "date", some(lambda: day + dt.timedelta(days=rng.randint(0, 3_600_000)))),
        "moment": (pa.timestamp("us", "UTC"), "timestamptz", some(lambda: moment + dt.timedelta(microseconds=rng.randint(0, 10**16)))),
        "n0": (pa.decimal128(38, 0), "numeric", some(lambda: Decimal(rng.choice([*edges, rng.randint(-(10**37), 10**37)])))),
        "n2": (pa.decimal128(38, 2), "numeric", some(lambda: Decimal(rng.randint(-(10**9), 10**9)).scaleb(-2))),
        "n5": (pa.decimal128(38, 5), "numeric", some(lambda: Decimal(rng.choice([*edges, rng.randint(0, 10**12)])).scaleb(-5))),
        "n18": (pa.decimal128(38, 18), "numeric", some(lambda: Decimal(rng.randint(-(10**24), 10**24)).scaleb(-18))),
        "wide": (pa.decimal256(76, 30), "numeric", some(lambda: Decimal(rng.randint(-(10**70), 10**70)).scaleb(-30))),
        "doc": (pa.json_(pa.string()), "jsonb", some(lambda: json.dumps({"n": rng.randint(0, 9)}))),
    }  # fmt: skip


@pytest.mark.parametrize("nulls", [0, 0.3, 1])
def test_the_same_values_as_the_driver_loads(dock: Dock, nulls: float) -> None:
    rng = random.Random(7)
    made = columns(rng)
    arrays: dict[str, Any] = {}
    for name, (kind, _, values) in made.items():
        held = [None if rng.random() < nulls else value for value in values]
        plain = pa.array(held, pa.string() if name == "doc" else kind)
        arrays[name] = pa.ExtensionArray.from_storage(kind, plain) if name == "doc" else plain
    table = pa.table(arrays)
    for name in ("theirs", "ours"):
        dock.do(f"create table {name} (n serial, {', '.join(f'{c} {declared}' for c, (_, declared, _) in made.items())})")
    address = f"host=127.0.0.1 port={dock.cluster.port} user=boss dbname=postgres options='-c search_path={dock.schema}'"
    with adbc_driver_postgresql.dbapi.connect(address, autocommit=True) as connection, connection.cursor() as cursor:
        cursor.adbc_ingest("theirs", table, mode="append")
    with dock.db.cursor().copy(f"copy ours ({', '.join(made)}) from stdin (format binary)") as copy:
        copy.write(COPY_HEADER)
        for batch in table.slice(1).to_batches(max_chunksize=700):
            copy.write(in_binary(batch))
        copy.write(COPY_TRAILER)
    for name in made:
        question = f"select a.{name}::text, b.{name}::text from theirs a join ours b on a.n = b.n + 1"
        assert dock.do(f"{question} where a.{name}::text is distinct from b.{name}::text limit 3").fetchall() == [], name
    assert dock.do("select count(*) from ours").fetchone() == (ROWS - 1,)
