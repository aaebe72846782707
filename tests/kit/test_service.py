"""Connectors in Python in the service: who may bring one, how it is kept, looked at, run and taken along."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest

import reedbasket.kit
from reedbasket.client import Client, ServiceProblem
from tests.conftest import RunningService
from tests.kit.standins import TOKEN, odata
from tests.kit.test_connectors import BASKET, HEAD, PAGED, records
from tests.support.feeds import SECRET
from tests.support.source import Answer, Changing, Request, serving

EXAMPLES = Path(reedbasket.kit.__file__).parent / "examples"


def definitions(url: str) -> str:
    return BASKET.format(url=url, more="", table="")


def reed(service: RunningService, *arguments: str, code: int = 0) -> str:
    command = [sys.executable, "-m", "reedbasket.cli.main", *arguments]
    done = subprocess.run(command, capture_output=True, text=True, env={**os.environ, **service.environment()})
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_from_a_folder_to_rows_and_back_into_a_folder(service: RunningService, tmp_path: Path) -> None:
    folder = tmp_path / "basket"
    folder.mkdir()
    (folder / "lockers.py").write_text(HEAD + PAGED)
    service.client.secrets.set("test_token", SECRET)
    with serving(Changing(records(60))) as server:
        (folder / "all.yaml").write_text(definitions(server.url))
        reed(service, "apply", str(folder))
        steps = {step["step"]: step["ok"] for step in service.client.sources.check("test")}
        assert steps == {"secrets": True, "code": True, "confined": True, "check": True, "records": True}
        assert [table["key"] for table in service.client.sources.survey("test")] == [["id"]]
        assert len(service.client.sources.preview("test", "boxes", rows=5)["rows"]) == 5
        assert service.client.feeds.plan("test")["tables"][0]["error"] is None
        run = service.client.feeds.run("test", wait_seconds=50)
        assert (run["outcome"], run["totals"]["inserted"]) == ("succeeded", 60), run["error"]
        assert [line["status"] for line in service.client.runs.requests(run["id"])] == [200, 200]
        assert service.client.feeds.verify("test", deep=True)[0]["same"]
    reed(service, "export", str(tmp_path / "out"))
    assert (tmp_path / "out/lockers.py").read_text() == HEAD + PAGED
    assert "code: lockers.py" in (tmp_path / "out/all.yaml").read_text()
    assert "program" not in (tmp_path / "out/all.yaml").read_text()
    assert {one["change"] for one in service.client.definitions.apply({"basket/all.yaml": definitions(server.url)})} == {"same"}


def test_tables_that_only_the_source_knows(service: RunningService, tmp_path: Path) -> None:
    """Asked at each look and each run: taken by name or pattern, told where they come or go, and each by itself."""
    folder = tmp_path / "odata"
    shutil.copytree(EXAMPLES / "odata", folder, ignore=shutil.ignore_patterns("answers"))
    service.client.secrets.set("odata_token", TOKEN)
    more: list[str] = []

    def answer(request: Request) -> Answer:
        if request.path == "/odata/Moorings":
            return Answer({"value": [{"Id": 1}]})
        found = odata(request)
        if request.path == "/odata/$metadata" and found.raw is not None:
            sets = "".join(f'<EntitySet Name="{name}" EntityType="Marsh.None"/></EntityContainer>' for name in more)
            return replace(found, raw=found.raw.replace(b"</EntityContainer>", sets.encode() or b"</EntityContainer>"))
        return found

    def feed(tables: str) -> None:
        text = "warehouse: marsh\ntype: sqlite\npath: marsh.db\ntable_prefix: o_\n---\n"
        text += f"feed: sets\nfrom: odata\ninto: marsh\ntables: {tables}\n"
        (folder / "feed.yaml").write_text(text)
        reed(service, "apply", str(folder))

    with serving(answer) as server:
        source = folder / "source.yaml"
        source.write_text(source.read_text().replace("http://127.0.0.1:8000", server.url))
        feed("[Boats, Bots]")
        assert service.client.sources.get("odata")["discover_tables"] is True
        steps = {step["step"]: step["found"] for step in service.client.sources.check("odata")}
        assert steps["tables"] == "2: Boats, Berths" and steps["records"].startswith("250 in"), steps
        surveyed = {table["table"]: table["key"] for table in service.client.sources.survey("odata")}
        assert surveyed == {"Boats": ["BoatId"], "Berths": ["Quay", "Place"]}
        assert len(service.client.sources.preview("odata", "Berths", rows=5)["rows"]) == 5
        assert 'did you mean "Boats"' in str(service.client.feeds.plan("sets"))
        run = service.client.feeds.run("sets", wait_seconds=50)
        assert (run["outcome"], run["error"]["code"]) == ("failed", "definition.unknown_table")
        assert {one["table"]: one["inserted"] for one in run["tables"]} == {"Boats": 250, "Bots": 0}
        feed("[{table: 'B*', exclude: 'Bert*'}]")
        run = service.client.feeds.run("sets", wait_seconds=50)
        assert (run["outcome"], run["totals"]["inserted"]) == ("succeeded", 0), run["error"]
        assert service.client.feeds.verify("sets", deep=True)[0]["same"]
        feed("['*']\non_drift: {new_table: ignore}")
        more.append("Moorings")
        run = service.client.feeds.run("sets", wait_seconds=50)
        assert run["outcome"] == "succeeded", run["error"]
        lines = [line["code"] for line in service.client.runs.log(run["id"])]
        assert lines.count("drift.table") == 2 and "table.ignored" not in lines
        feed("['*']")
        run = service.client.feeds.run("sets", wait_seconds=50)
        assert {one["table"]: one["inserted"] for one in run["tables"]} == {"Boats": 0, "Berths": 8, "Moorings": 1}
    with closing(sqlite3.connect(service.warehouses / "marsh.db")) as db:
        assert [db.execute(f"select count(*) from o_{name}").fetchone()[0] for name in ("boats", "berths", "moorings")] == [
            250,
            8,
            1,
        ]


def test_only_an_admin_brings_python(service: RunningService) -> None:
    service.client.users.add("wren", "editor", "otters like quiet reeds")
    editor = Client(service.url, service.client.tokens.add("wren", role="editor")["token"])
    files = {"all.yaml": definitions("http://127.0.0.1:9"), "lockers.py": HEAD + PAGED}
    for only_check in (True, False):
        with pytest.raises(ServiceProblem) as caught:
            editor.definitions.apply(files, dry_run=only_check)
        assert (caught.value.status, caught.value.code) == (403, "definition.code_needs_admin")
    assert service.client.definitions.list() == []
    service.client.definitions.apply(files)
    # What is in force may come along with what else an editor changes; anything else may not.
    assert {one["change"] for one in editor.definitions.apply(files)} == {"same"}
    with pytest.raises(ServiceProblem):
        editor.definitions.apply({**files, "lockers.py": HEAD + PAGED + "\n# more"})
    with pytest.raises(ServiceProblem) as caught:
        editor.definitions.apply({"b.yaml": "connector: other\ntype: python\ncode: other.py\n"})
    assert "there is no file other.py" in str(caught.value.details)
