"""Times that name no zone mean the same instant, whatever they are read from."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from reedbasket.core.records.local_times import in_utc
from reedbasket.core.runs import RunOutcome
from tests.core.test_mysql import DatabaseFixture
from tests.support.dock import MARSH, Dock
from tests.support.feeds import run_once, table_rows
from tests.support.maria import Maria

ZONE = "time_zone: Europe/Amsterdam\n"
# An hour that is left out, one that comes twice, and one of every day.
LOCAL = ["2026-03-29 02:30:00", "2026-10-25 02:30:00", "2026-07-01 12:00:00"]
INSTANTS = ["2026-03-29 01:30:00.000000Z", "2026-10-25 00:30:00.000000Z", "2026-07-01 10:00:00.000000Z"]


@given(
    st.sampled_from(["Europe/Amsterdam", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia", "UTC"]),
    st.lists(st.datetimes(datetime(2005, 1, 1), datetime(2035, 1, 1)).map(lambda at: at.replace(fold=0)), max_size=5),
    st.integers(0, 8760),
)
def test_they_are_what_zoneinfo_says(zone: str, times: list[datetime], hour: int) -> None:
    times += [datetime(2026, 1, 1) + timedelta(hours=hour, minutes=minute) for minute in (0, 15, 45)]
    found = in_utc(pa.array(times, pa.timestamp("us")), zone).to_pylist()
    assert found == [time.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC) for time in times]


def loaded(text: str, folder: Path) -> list[str]:
    result, _ = run_once(text, folder)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    return [row["at"] for row in sorted(table_rows(folder, "tides"), key=lambda row: row["id"])]


@pytest.mark.parametrize("form", ["csv", "csv, one odd", "parquet"])
def test_in_files(tmp_path: Path, form: str) -> None:
    (tmp_path / "in").mkdir()
    lines = [f"{n},{time},{n}" for n, time in enumerate(LOCAL)]
    if form == "parquet":
        times = [datetime.fromisoformat(time) for time in LOCAL]
        parquet.write_table(pa.table({"id": [0, 1, 2], "at": pa.array(times, pa.timestamp("us"))}), tmp_path / "in/a.parquet")
    else:
        odd = ["3,2026-07-01 12:00:00,x"] if "odd" in form else []
        (tmp_path / "in/a.csv").write_text("\n".join(["id,at,n", *lines, *odd]) + "\n")
    for path in (tmp_path / "in").iterdir():
        os.utime(path, (1, 1))
    text = f"source: test\ntype: files\npath: in\n{ZONE}---\n{MARSH}tables: [{{table: tides, files: 'a.*', changes: {{by: full}}}}]\n"
    assert loaded(text, tmp_path)[:3] == INSTANTS


def test_in_sqlite(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "tides.db", isolation_level=None)) as db:
        db.execute("create table tides (id integer primary key, at datetime)")
        db.executemany("insert into tides values (?, ?)", enumerate(LOCAL))
    text = f"source: test\ntype: sqlite\npath: tides.db\n{ZONE}---\n{MARSH}tables: [tides]\n"
    assert loaded(text, tmp_path) == INSTANTS


def test_in_postgres(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table tides (id int primary key, at timestamp)")
    for n, time in enumerate(LOCAL):
        dock.do("insert into tides values (%s, %s)", n, time)
    # Its own cast takes the second of the two.
    second = "2026-10-25 01:30:00.000000Z"
    assert loaded(dock.basket("tables: [tides]\n", ZONE), tmp_path) == [INSTANTS[0], second, INSTANTS[2]]


def test_in_mariadb(maria: Maria, tmp_path: Path) -> None:
    yard = DatabaseFixture(maria)
    yard.do("create table tides (id int primary key, at datetime)")
    yard.do(*(f"insert into tides values ({n}, '{time}')" for n, time in enumerate(LOCAL)))
    assert loaded(yard.basket("tables: [tides]\n", ZONE), tmp_path) == INSTANTS
