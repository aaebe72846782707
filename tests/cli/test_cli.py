"""The command line as scripts and people use it: a real process against a real service."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from reedbasket.cli import arguments, show
from tests.conftest import RunningService
from tests.support.feeds import SECRET, basket_text
from tests.support.source import Changing, serving

RECORDS = [
    {"id": f"T{i:02d}", "n": i, "note": "line\nbreak" if i == 3 else None, "updated_at": f"2026-03-01T06:{i:02d}:00Z"}
    for i in range(40)
]


class Reed:
    """`reed` with the service's data folder in its environment."""

    def __init__(self, service: RunningService) -> None:
        self._environment = service.environment()

    def __call__(self, *arguments: str, code: int = 0, given: str | None = None) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "reedbasket.cli.main", *arguments],
            env=self._environment, input=given, capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        self.err = done.stderr
        assert done.returncode == code, (arguments, done.returncode, done.stdout, done.stderr)
        return done.stdout

    def json(self, *arguments: str, code: int = 0) -> Any:
        return json.loads(self(*arguments, "--json", code=code))


@pytest.fixture
def reed(service: RunningService) -> Reed:
    return Reed(service)


def test_the_first_hour_of_a_data_engineer(reed: Reed, tmp_path: Path) -> None:
    assert "No feeds yet" in reed("feeds")
    assert "No runs yet" in reed("runs")
    folder = tmp_path / "basket"
    folder.mkdir()
    records = list(RECORDS)
    with serving(Changing(records, page=15)) as source:
        (folder / "test.yaml").write_text(basket_text(source.url))
        assert "no mistake" in reed("apply", str(folder), "--dry-run")
        assert reed.json("definitions") == []
        assert "test-api" in reed("apply", str(folder))

        reed("run", "test", "--wait", code=1)
        assert "reed secret set test_token" in reed.err
        assert "[secret.missing]" in reed.err
        assert SECRET not in reed("secret", "set", "test_token", given=SECRET + "\n")
        assert "test_token" in reed("secrets")

        planned = reed("plan", "test")
        assert "things: will be created; changes by cursor, upsert, key id" in planned
        assert "+ id text, n int64, note text, updated_at timestamp" in planned
        assert "40 records, 3 requests" in planned
        assert "rows_per_commit: 100000" in reed("plan", "test", "--full")

        out = reed("run", "test")
        assert re.search(r"Run 2 of test succeeded in \d+\.\d\d s: 40 read, 40 inserted, 3 requests", out)
        assert re.search(r"things +done +40 read, 40 inserted, 3 requests", out)
        assert "0 read, nothing written" in reed("run", "test", "--wait")
        records.append({"id": "T99", "n": 99, "note": None, "updated_at": "2026-03-01T07:00:00Z"})
        assert reed.json("run", "test")["totals"]["read"] == 1

    ledger = reed("ledger", "test").splitlines()
    assert ledger[0].split()[:5] == ["load", "run", "table", "read", "inserted"]
    assert ledger[1].split()[:5] == ["2", "4", "things", "1", "1"]
    rows = reed("rows", "marsh", "things", "--limit", "2")
    assert "T99" in rows
    assert "more than 2 rows" in rows
    assert "line⏎break" in reed("sql", "marsh", "select note from things where n = 3")
    assert reed.json("sql", "marsh", "select count(*) as n from things")["rows"] == [[41]]
    assert [t["rows"] for t in reed.json("tables", "marsh")] == [41]
    assert "40 read, 40 inserted" in reed("log", "2")
    assert "GET     200" in reed("requests", "2")
    assert "succeeded" in reed("watch", "2")
    assert [r["id"] for r in reed.json("runs", "--limit", "2")] == [4, 3]
    assert "No rejects" in reed("rejects", "test")
    assert "/sign-in#" in reed("sign-in")
    assert reed.json("schema")["title"] == "Reed Basket definition"
    assert "prefix" not in reed("definitions", "warehouse", "marsh")


def test_exit_codes_that_scripts_can_use(reed: Reed, service: RunningService, tmp_path: Path) -> None:
    reed("run", "nothing", code=4)
    assert "[feed.not_found]" in reed.err
    reed("log", "77", code=4)
    reed("run", code=2)
    reed("secret", "set", code=2)
    bad = tmp_path / "bad.yaml"
    bad.write_text("warehouse: marsh\ntype: sqlite\npth: marsh.db\n")
    reed("apply", str(bad), code=5)
    assert "bad.yaml:3:1  warehouses.marsh.pth" in reed.err
    assert 'did you mean "path"?' in reed.err
    reed("apply", str(tmp_path / "none"), code=5)
    assert "no such folder" in reed.err
    reed("feeds", "--token", "wrong", "--url", service.url, code=3)
    reed("feeds", "--token", "any", "--url", "http://127.0.0.1:9", code=3)
    assert "no service answers" in reed.err
    with serving(Changing(list(RECORDS))) as source:
        service.client.secrets.set("test_token", SECRET)
        service.client.definitions.apply({"a.yaml": basket_text(source.url)})
        service.client.feeds.run("test", wait_seconds=30)
    reed("cancel", "1", code=6)
    reed("sql", "marsh", "drop table things", code=1)
    assert "can only be read" in reed.err
    reed("run", "test", "--wait", code=1)  # the source is gone
    assert "[source.unreachable]" in reed.err


def test_tables_fit_the_terminal_and_name_what_does_not(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "40")
    rows = [("S-00001", 80015, "潮位", "x" * 60), (None, 7, "", "y")]
    show.table(["sailing_id", "read", "name", "note"], rows, empty="none", right=["read"])
    lines = capsys.readouterr().out.splitlines()
    assert lines[:3] == ["sailing_id   read  name", "S-00001     80015  潮位", "·               7"]
    assert lines[3] == "… 1 more column does not fit this width: note"
    monkeypatch.setenv("COLUMNS", "200")
    show.table(["sailing_id", "read", "name", "note"], rows, empty="none", right=["read"])
    assert "x" * 47 + "…" in capsys.readouterr().out


def every_command() -> list[str]:
    parser = arguments.build()
    (actions,) = [a for a in parser._actions if hasattr(a, "choices") and a.choices]
    return sorted(actions.choices)  # type: ignore[arg-type]


@pytest.mark.parametrize("command", every_command())
def test_every_command_has_help_with_an_example(command: str) -> None:
    done = subprocess.run([sys.executable, "-m", "reedbasket.cli.main", command, "--help"], capture_output=True, text=True)
    assert done.returncode == 0
    assert f"example:\n  reed {command}" in done.stdout
    if command not in ("serve", "demo", "backup", "restore", "connector"):
        assert "--json" in done.stdout
