"""A real service for tests: its own data folder, a free port, real worker processes, stopped at the end."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from reedbasket.client import Client
from tests.support.processes import workers_of

# What was found holds however busy the machine is.
settings.register_profile("any machine", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any machine")

# How wide the terminal is of whoever runs the tests is not theirs.
os.environ.pop("COLUMNS", None)


# What starts a server or a browser.
_SERVERS = {"cluster", "dock", "maria", "service", "page"}


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--quick", action="store_true", help="only tests of the core and the store that start no server and take no time"
    )


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if not config.getoption("--quick"):
        return
    kept, left = [], []
    for item in items:
        fixtures = set(getattr(item, "fixturenames", ()))
        of_engine = "duckdb" in item.name or "postgres" in item.name or "mysql" in item.name
        quick = (
            item.path.parent.name in ("core", "store")
            and not fixtures & _SERVERS
            and not of_engine
            and not item.get_closest_marker("slow")
        )
        (kept if quick else left).append(item)
    items[:] = kept
    config.hook.pytest_deselected(items=left)


class RunningService:
    """A service process; `client` speaks to it, `out` is what it printed. files, warehouses: where relative paths begin.

    One worker, unless a test is about several: each costs a second of processor to start.
    """

    def __init__(self, folder: Path, *more: str) -> None:
        more = more if "--workers" in more else ("--workers", "1", *more)
        self.folder, self.files, self.warehouses = folder, folder / "files", folder / "warehouses"
        self.process = subprocess.Popen(
            [sys.executable, "-m", "reedbasket.cli.main", "serve", "--data", str(folder), "--port", "0", *more],
            stdout=subprocess.PIPE,
            stderr=open(folder.with_suffix(".err"), "ab"),  # noqa: SIM115
            text=True,
        )
        assert self.process.stdout is not None
        self.out: list[str] = []
        for line in self.process.stdout:
            self.out.append(line)
            if line.startswith("Console"):
                break
        if not self.out or not self.out[-1].startswith("Console"):
            self.process.wait(60)
        assert self.process.poll() is None, "the service ended: " + folder.with_suffix(".err").read_text()
        self.url = next(line for line in self.out if line.startswith("Reed Basket at")).split()[3].rstrip(",")
        self.sign_in = self.out[-1].split()[-1]
        self.token = (folder / "token").read_text().strip()
        self.client = Client(self.url, self.token)

    def stop(self, how: signal.Signals = signal.SIGTERM) -> int:
        if self.process.poll() is None:
            self.process.send_signal(how)
        return self.process.wait(120)

    def workers(self) -> list[int]:
        """Process ids of its workers."""
        return workers_of(self.process.pid)

    def environment(self) -> dict[str, str]:
        """For commands that are to find this service."""
        return {**os.environ, "REED_DATA": str(self.folder), "COLUMNS": "200"}


@pytest.fixture
def service(tmp_path: Path) -> Iterator[RunningService]:
    running = RunningService(tmp_path / "data")
    yield running
    running.stop()
