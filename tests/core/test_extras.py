"""The package without any of its extras: all works that needs no driver, and what needs one says what to install."""

from __future__ import annotations

import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
BARE = """
import sys
DRIVERS = "psycopg adbc_driver_postgresql adbc_driver_manager pymysql boto3 botocore paramiko openpyxl aiosmtpd"
for name in DRIVERS.split():
    sys.modules[name] = None  # as if it were not installed
from reedbasket.core import kinds
from reedbasket.core.runs.execution.preload import import_drivers
import reedbasket.service.serve, reedbasket.service.inspection.all, reedbasket.service.worker
from reedbasket.cli.main import main

import_drivers(kinds.SOURCES.names(), kinds.WAREHOUSES.names())
for registry in (kinds.SOURCES, kinds.WAREHOUSES, kinds.STORES, kinds.FORMATS):
    for name in registry.names():
        kind = registry.get(name)
        module = getattr(kind, "module", "") or kind.reader.partition(":")[0]
        try:
            kinds.load(module, kind.extra)
        except kinds.DriverMissing as error:
            print(name, error.code, error.fix.split("'")[1])
assert main(["demo"]) == 1
"""


@pytest.mark.slow
def test_what_is_missing_says_what_to_install() -> None:
    done = subprocess.run([sys.executable, "-c", BARE], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    said = dict(line.split(" ", 1) for line in done.stdout.splitlines())
    brought = {"mysql": "mysql", "postgres": "postgres", "s3": "s3", "sftp": "sftp", "xlsx": "xlsx"}
    assert said == {kind: f"driver.missing reedbasket[{extra}]" for kind, extra in brought.items()}
    assert "reedbasket[demo]" in done.stderr
    extras = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]["optional-dependencies"]
    assert {*brought.values(), "demo", "all"} <= set(extras)
