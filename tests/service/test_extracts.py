"""Extracts: records as files once, checked on the way, loaded anywhere, and nothing twice."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from jsonschema import Draft202012Validator

from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.service.test_each_warehouse import prepare, record
from tests.support.source import Changing, serving

PLACES = "warehouse: duck\ntype: duckdb\npath: duck.duckdb\n"


def reed(service: RunningService, *arguments: str, code: int = 0, given: bytes = b"") -> bytes:
    command = [sys.executable, "-m", "reedbasket.cli.main", "extract", *arguments]
    done = subprocess.run(command, capture_output=True, env={**os.environ, **service.environment()}, input=given)
    assert done.returncode == code, (done.stdout + done.stderr).decode()
    return done.stdout + (done.stderr if code else b"")


def test_written_once_and_loaded_anywhere(service: RunningService, tmp_path: Path) -> None:
    client, records = service.client, [record(n) for n in range(50)]
    folder = tmp_path / "out"
    with serving(Changing(records)) as source:
        prepare(client, source.url, write="upsert", by="cursor", warehouse="type: sqlite\npath: marsh.db")
        client.definitions.apply({"more.yaml": PLACES})
        client.feeds.run("test", wait_seconds=30)
        fresh = client.feeds.get("test")["fresh_at"]
        before = client.warehouses.rows("marsh", "things", limit=100)["rows"]
        out = reed(service, "write", "test", str(folder)).decode()
        assert "things" in out and "2026-03-01T06:49:00Z" in out
        # The feed's own warehouse, cursor and freshness stay as they were.
        assert client.warehouses.rows("marsh", "things", limit=100)["rows"] == before
        assert client.feeds.get("test")["fresh_at"] == fresh
        records.append(record(50))
        assert client.feeds.run("test", wait_seconds=30)["totals"]["inserted"] == 1
        assert client.extracts.list() == []
    manifest = json.loads((folder / "manifest.json").read_text())
    tables = {table["name"]: table for table in manifest["tables"]}
    assert (tables["things"]["rows"], tables["things"]["key"], tables["things_kids"]["key"]) == (
        50,
        ["id"],
        ["rb_parent", "rb_ordinal"],
    )
    for table in tables.values():
        rows = pq.read_table(folder / table["file"]).to_pylist()
        assert len(rows) == table["rows"]
        for row in rows:
            plain = {name: value.isoformat() if hasattr(value, "isoformat") else value for name, value in row.items()}
            Draft202012Validator(table["schema"]).validate(plain)
    for place in ("duck", "marsh"):
        for loaded in (100, 0):
            said = json.loads(reed(service, "load", str(folder), "--into", place, "--prefix", f"{place}_", "--json"))
            assert said["totals"]["inserted"] == loaded
        columns = "id, name, big, price, cast(open as integer) as open, cast(day as text) as day"
        there = [
            client.warehouses.query(warehouse, f"select {columns} from {table} where id < 50 order by id")["rows"]
            for warehouse, table in ((place, f"{place}_things"), ("marsh", "things"))
        ]
        assert there[0] == there[1] and len(there[0]) == 50
        assert client.feeds.verify("extract-test", deep=True)[0]["same"]
    line = next(line for line in client.feeds.ledger("extract-test") if line["table"] == "marsh_things")
    assert (line["read"], line["inserted"], line["reconciles"]) == (50, 50, True)


def test_an_extract_that_was_changed_or_cut_is_not_loaded(service: RunningService, tmp_path: Path) -> None:
    with serving(Changing([record(n) for n in range(5)])) as source:
        prepare(service.client, source.url, write="upsert", by="cursor", warehouse="type: sqlite\npath: marsh.db")
        reed(service, "write", "test", str(tmp_path / "out"))
    file = tmp_path / "out/things.parquet"
    whole = file.read_bytes()
    file.write_bytes(whole[:-9])
    assert b"[extract.changed]" in reed(service, "load", str(tmp_path / "out"), "--into", "marsh", code=1)
    file.unlink()
    assert b"does not exist" in reed(service, "load", str(tmp_path / "out"), "--into", "marsh", code=1)
    assert b"[extract.unreadable]" in reed(service, "load", str(tmp_path), "--into", "marsh", code=1)
    for name in ("../service.db", "..%2f..%2fservice.db", ".", "nothing-1"):
        with pytest.raises(ServiceProblem) as caught:
            list(service.client.extracts.file(name, "key"))
        assert caught.value.status == 404
    # A run that fails leaves nothing behind.
    service.client.definitions.apply(
        {"more.yaml": "source: test\nconnector: test-api\nsettings: {url: 'http://127.0.0.1:9', token: {secret: test_token}}\n"}
    )
    reed(service, "write", "test", str(tmp_path / "none"), code=1)
    assert list((service.folder / "extracts").iterdir()) == []


def test_through_a_pipe_as_arrow(service: RunningService) -> None:
    with serving(Changing([record(n) for n in range(20)])) as source:
        prepare(service.client, source.url, write="upsert", by="cursor", warehouse="type: sqlite\npath: marsh.db")
        stream = reed(service, "write", "test", "-", "--table", "things")
    table = pa.ipc.open_stream(stream).read_all()
    assert table.num_rows == 20 and table.schema.field("big").type == pa.int64()
    for count in (20, 20):
        reed(service, "load", "-", "--into", "marsh", "--table", "piped", "--key", "id", given=stream)
        assert service.client.warehouses.query("marsh", "select count(*) from piped")["rows"] == [[count]]
    reed(service, "load", "-", "--into", "marsh", given=stream, code=1)
