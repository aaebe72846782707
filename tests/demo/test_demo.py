"""`make demo` itself: started, asked for its rows, made to change, and stopped with Ctrl-C."""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from reedbasket.cli.arguments import build
from reedbasket.client import Client, connect
from reedbasket.demo.ferries import BOOKINGS, SAILINGS, make_all, story_now
from reedbasket.demo.passes import HOLDERS, USES
from reedbasket.demo.start import DemoError, fresh_folder

ROOT = Path(__file__).parents[2]


class Demo:
    def __init__(self, folder: Path, target: str = "demo") -> None:
        self.folder = folder
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        # `make demo` as it is, but beside a demo that a developer may have open.
        self.process = subprocess.Popen(
            ["make", target, f"DEMO=--data {folder} --port {port}"],
            cwd=ROOT,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        self.out = ""
        ready = threading.Event()

        def read() -> None:
            assert self.process.stdout is not None
            for line in self.process.stdout:
                self.out += line
                if "Ctrl-C stops" in line:
                    ready.set()

        self._reader = threading.Thread(target=read)
        self._reader.start()
        assert ready.wait(180), self.out

    def client(self) -> Client:
        os.environ["REED_DATA"] = str(self.folder)
        try:
            return connect()
        finally:
            del os.environ["REED_DATA"]

    def reed(self, *arguments: str) -> str:
        done = subprocess.run(
            [str(ROOT / ".venv/bin/reed"), *arguments],
            capture_output=True,
            text=True,
            env={**os.environ, "REED_DATA": str(self.folder)},
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    def stop(self) -> None:
        os.killpg(self.process.pid, signal.SIGINT)
        self.process.wait(30)
        self._reader.join(10)


@pytest.fixture
def demo(tmp_path: Path) -> Iterator[Demo]:
    running = Demo(tmp_path / "reed-data")
    yield running
    if running.process.poll() is None:
        running.stop()


# Of those that go on until they are stopped, and of a run that has ended before.
NOT_RUN, CANNOT = ("serve", "demo"), {"reed cancel 1": 6}
FIRST = ["reed export ./basket", "reed backup reed.tar.gz"]


def examples() -> list[str]:
    """Every example of a command's help, and the commands of the README that are written out whole."""
    found: list[str] = []

    def collect(parser: argparse.ArgumentParser) -> None:
        found.extend(re.findall(r"^  (reed .+)$", parser.epilog or "", re.M))
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction):
                for one in action.choices.values():
                    collect(one)

    collect(build())
    (block,) = re.findall(r"## What you do with it\n\n```\n(.*?)```", (ROOT / "README.md").read_text("utf-8"), re.S)
    found += [line.split("  ")[0].strip() for line in block.splitlines() if "…" not in line]
    return FIRST + [one for one in dict.fromkeys(found) if one not in FIRST and one.split()[1] not in NOT_RUN]


def test_every_example_works_as_it_is_written(demo: Demo, tmp_path: Path) -> None:
    path = f"{ROOT / '.venv/bin'}:{os.environ['PATH']}"
    wrong = []
    assert len(examples()) > 60
    for command in examples():
        done = subprocess.run(
            command, shell=True, cwd=tmp_path, input="rushes-and-reeds-42\n", capture_output=True, text=True, timeout=120,
            env={**os.environ, "REED_DATA": str(demo.folder), "PATH": path},
        )  # fmt: skip
        if done.returncode != CANNOT.get(command, 0):
            wrong.append(f"{command}: {done.returncode}, {done.stderr.strip() or done.stdout.strip()[-300:]}")
    assert not wrong, "\n".join(wrong)


def test_make_demo_from_start_to_end(demo: Demo) -> None:
    assert re.search(r"http://127\.0\.0\.1:\d+/sign-in#\S+", demo.out)
    assert "Run 1 of harbour succeeded: 80,015 records read" in demo.out
    client = demo.client()
    rows = {t["name"]: t["rows"] for t in client.warehouses.tables("marsh")}
    made = make_all(story_now())
    assert (rows["sailings"], rows["bookings"], rows["landings"], rows["vessels"]) == (SAILINGS, BOOKINGS, 6, 9)
    assert rows["bookings_passengers"] == sum(len(b["passengers"]) for b in made["bookings"])
    assert rows["bookings_vehicles"] == sum(len(b["vehicles"]) for b in made["bookings"])
    tickets = client.warehouses.query("marsh", "select cast(sum(ticket % 100000) as integer), max(ticket) from bookings")[
        "rows"
    ][0]
    assert tickets == [sum(b["ticket"] % 100000 for b in made["bookings"]), str(max(b["ticket"] for b in made["bookings"]))]

    assert client.feeds.run("harbour", wait_seconds=50)["totals"]["read"] == 0
    data = ("--data", str(demo.folder))
    assert "2 bookings were added" in demo.reed("demo", *data, "event", "bookings_added")
    assert "is delayed" in demo.reed("demo", *data, "event", "sailing_delayed")
    third = client.feeds.run("harbour", wait_seconds=50)
    assert third["totals"]["read"] == 3
    lines = {line["table"]: line for line in client.runs.ledger(third["id"])}
    assert (lines["bookings"]["inserted"], lines["bookings"]["updated"]) == (2, 0)
    assert (lines["sailings"]["inserted"], lines["sailings"]["updated"]) == (0, 1)
    demo.reed("demo", *data, "event", "busy")
    demo.reed("demo", *data, "event", "odd_record")
    fourth = client.feeds.run("harbour", wait_seconds=50)
    # All that came, one record, was rejected: that is no success, and the cursor stays before it.
    assert (fourth["outcome"], fourth["totals"]["rejected"], fourth["totals"]["requests"]) == ("failed", 1, 6)
    assert fourth["error"] and fourth["error"]["code"] == "run.too_many_rejects"
    assert "free" in client.feeds.rejects("harbour")[0]["record"]

    # The others, each as its source wants to be asked.
    dock, tides, passes = (client.runs.get(number, wait_seconds=50) for number in (2, 5, 6))
    assert (dock["outcome"], tides["outcome"], passes["outcome"]) == ("succeeded", "succeeded", "succeeded")
    turnstiles, depot = (client.runs.get(number, wait_seconds=50) for number in (3, 4))
    assert (turnstiles["outcome"], depot["outcome"]) == ("succeeded", "succeeded")
    assert sum(1 for _ in (demo.folder / "files/lake/depot/photos").rglob("*.png")) == 24
    assert client.sources.get("depot")["base_url"].startswith("s3://sedge-depot at http://127.0.0.1:")
    demo.reed("demo", *data, "event", "work_order_done")
    assert {t["table"]: t["read"] for t in client.feeds.run("dock", wait_seconds=50)["tables"]}["work_orders"] == 1
    assert tides["totals"]["requests"] * 144 == tides["totals"]["read"] >= 29 * 144
    assert passes["totals"]["read"] == HOLDERS + USES
    assert not [line for number in (5, 6) for line in client.runs.requests(number, limit=1000) if line["status"] == 429]
    assert client.feeds.run("tides", wait_seconds=50)["totals"]["requests"] == 0
    demo.reed("demo", *data, "event", "token_expires")
    demo.reed("demo", *data, "event", "pass_given_back")
    given_back = client.feeds.run("passes", wait_seconds=50)
    assert (given_back["outcome"], client.runs.ledger(given_back["id"])[0]["deleted"]) == ("succeeded", 1)
    assert "holder_email" in {
        c["name"] for t in client.warehouses.tables("marsh") if t["name"] == "pass_holders" for c in t["columns"]
    }
    boardings = client.feeds.run("boardings", wait_seconds=50)
    assert (boardings["outcome"], boardings["totals"]["requests"] > 100) == ("succeeded", True)
    assert client.feeds.run("boardings", wait_seconds=50)["totals"]["requests"] == 1

    harbour = json.loads((demo.folder / "standins.json").read_text())["harbour"]
    demo.stop()
    assert "Stopped: the service, its workers and the stand-ins." in demo.out
    for url in (client.url, harbour):
        with pytest.raises(OSError, match="refused"):
            socket.create_connection(("127.0.0.1", int(url.rsplit(":", 1)[1])), timeout=2)


def test_make_demo_with_its_warehouse_on_mariadb(tmp_path: Path) -> None:
    demo = Demo(tmp_path / "reed-data", "demo-mysql")
    try:
        client = demo.client()
        assert "Run 1 of harbour succeeded: 80,015 records read" in demo.out
        rows = {t["name"]: t["rows"] for t in client.warehouses.tables("marsh")}
        assert (rows["sailings"], rows["bookings"], rows["landings"], rows["vessels"]) == (SAILINGS, BOOKINGS, 6, 9)
        assert [step["step"] for step in client.warehouses.check("marsh") if not step["ok"]] == []
        turnstiles = client.runs.get(3, wait_seconds=50)
        assert turnstiles["outcome"] == "succeeded", turnstiles["error"]
        assert client.warehouses.query("marsh", 'select count(*) > 0 from "ts_visitors_by_day"')["rows"] == [[1]]
        demo.reed("demo", "--data", str(demo.folder), "event", "bookings_added")
        assert client.feeds.run("harbour", wait_seconds=50)["totals"]["read"] == 2
        assert all(table["same"] for table in client.feeds.verify("harbour", deep=True))
    finally:
        demo.stop()


def test_a_demo_clears_only_what_a_demo_made(tmp_path: Path) -> None:
    folder = tmp_path / "mine"
    folder.mkdir()
    (folder / "precious.db").write_text("rows")
    with pytest.raises(DemoError, match="not made by a demo"):
        fresh_folder(folder)
    assert (folder / "precious.db").exists()
    shutil.rmtree(folder)
    fresh_folder(folder)
    (folder / "old.db").write_text("rows")
    fresh_folder(folder)
    assert [p.name for p in folder.iterdir()] == ["this-is-a-demo"]
