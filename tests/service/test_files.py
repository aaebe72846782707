"""Files through the service: looked at, taken, fixed and taken again by command line, with the demo's own turnstiles."""

from __future__ import annotations

import os
import re
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest

from reedbasket.client import ServiceProblem
from reedbasket.demo.ferries import LANDINGS
from reedbasket.demo.turnstile import counts_name, happenings, make_turnstile
from tests.conftest import RunningService
from tests.service.test_databases import reed

BASKET = """source: turnstile
type: files
path: turnstile
---
source: lake
type: files
path: lake
---
warehouse: marsh
type: duckdb
path: marsh.duckdb
---
feed: turnstiles
from: turnstile
into: marsh
table_prefix: ts_
changes: {by: files, stable_for: 0s}
tables:
  - table: counts
    files: "<landing>/counts-<hour:%Y%m%d%H>.ndjson.gz"
    derived: {view: ts_by_landing, query: 'select landing, sum("in") as came from ts_counts group by 1'}
  - table: prices
    files: prices/*.csv
    primary_key: [day, fuel]
  - table: photos
    files: depot/photos/<vessel>/*.png
    copy: {to: lake}
"""


def test_the_turnstiles_from_a_look_to_a_file_taken_again(service: RunningService) -> None:
    folder = service.files / "turnstile"
    make_turnstile(folder)
    client = service.client
    client.definitions.apply({"basket.yaml": BASKET})
    assert "318 files" in reed(service, "check", "turnstile")
    survey = reed(service, "survey", "turnstile")
    assert "*/counts-<hour:%Y%m%d%H>.ndjson.gz: 288 files" in survey and "prices/fuel-<month:%Y-%m>.csv: 3 files" in survey
    preview = reed(service, "preview", "turnstile", "prices/*.csv", "--rows", "2")
    assert "delimiter semicolon, utf-8, with a header, decimal comma" in preview
    assert "landing text" in reed(service, "plan", "turnstiles")
    run = client.feeds.run("turnstiles", wait_seconds=50)
    assert run["outcome"] == "succeeded" and run["totals"]["read"] == 288 * 24 + 3 * 84 + 24
    assert sum(1 for _ in (service.files / "lake").rglob("*.png")) == 24
    assert client.warehouses.query("marsh", "select count(*) from ts_by_landing")["rows"] == [[len(LANDINGS)]]
    happens = happenings(folder)
    happens["file_corrected"]()
    damaged = happens["file_damaged"]().split(" ")[0]
    run = client.feeds.run("turnstiles", wait_seconds=50)
    assert run["outcome"] == "failed" and run["error"] and run["error"]["code"] == "file.damaged"
    assert run["totals"]["read"] == 24 and client.warehouses.query("marsh", "select count(*) from ts_counts")["rows"] == [
        [288 * 24]
    ]
    bad = reed(service, "files", "turnstiles", "--state", "failed")
    assert re.search(rf"counts +{damaged} +failed", bad) and "ends in the middle" in bad
    again = client.feeds.run("turnstiles", wait_seconds=50)  # not read again, and no success while it is missing
    assert again["outcome"] == "failed" and again["error"] and damaged in again["error"]["found"]
    whole = next(landing for landing in LANDINGS if not damaged.startswith(landing))
    again = reed(service, "rewind", "turnstiles", "counts", "--file", f"{whole}/*")
    assert "loads 48 files again" in again
    run = client.feeds.run("turnstiles", wait_seconds=50)
    assert run["totals"]["read"] == 48 * 24 and client.warehouses.query("marsh", "select count(*) from ts_counts")["rows"] == [
        [288 * 24]
    ]
    with pytest.raises(ServiceProblem, match="none of its"):
        client.feeds.rewind_files("turnstiles", "counts", ["nowhere/*"])
    verified = client.feeds.verify("turnstiles", table="prices", deep=True)
    assert verified[0]["same"] and verified[0]["warehouse"] == 252


def test_the_demo_makes_what_it_says(tmp_path: Path) -> None:
    now = datetime(2026, 3, 2, 6, tzinfo=UTC)
    make_turnstile(tmp_path, now)
    newest = tmp_path / "OSQ" / counts_name(datetime(2026, 3, 2, 5, tzinfo=UTC))
    assert newest.exists() and time.time() - newest.stat().st_mtime > 60
    before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    words = happenings(tmp_path)["file_arrives"]()
    arrived = tmp_path / words.split(" ")[0]
    assert arrived not in before and "is being written" in words
    end = time.time() + 10
    while time.time() < end and (not arrived.exists() or time.time() - os.stat(arrived).st_mtime < 1):
        time.sleep(0.1)
    assert {path: path.read_bytes() for path in before} == before and arrived.stat().st_size > 100
