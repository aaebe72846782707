"""Connectors in Python in the service: who may bring one, how it is kept, looked at, run and taken along."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from reedbasket.client import Client, ServiceProblem
from tests.conftest import RunningService
from tests.kit.test_connectors import BASKET, HEAD, PAGED, records
from tests.support.feeds import SECRET
from tests.support.source import Changing, serving


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
    service.client.set_secret("test_token", SECRET)
    with serving(Changing(records(60))) as server:
        (folder / "all.yaml").write_text(definitions(server.url))
        reed(service, "apply", str(folder))
        steps = {step["step"]: step["ok"] for step in service.client.check_source("test")}
        assert steps == {"secrets": True, "code": True, "check": True, "records": True}
        assert [table["key"] for table in service.client.survey("test")] == [["id"]]
        assert len(service.client.peek("test", "boxes", rows=5)["rows"]) == 5
        assert service.client.plan("test")["tables"][0]["error"] is None
        run = service.client.ask_run("test", wait_seconds=50)
        assert (run["outcome"], run["totals"]["loaded"]) == ("succeeded", 60), run["error"]
        assert [line["status"] for line in service.client.requests(run["id"])] == [200, 200]
        assert service.client.verify("test", deep=True)[0]["same"]
    reed(service, "export", str(tmp_path / "out"))
    assert (tmp_path / "out/lockers.py").read_text() == HEAD + PAGED
    assert "code: lockers.py" in (tmp_path / "out/all.yaml").read_text()
    assert "program" not in (tmp_path / "out/all.yaml").read_text()
    assert {one["change"] for one in service.client.apply({"basket/all.yaml": definitions(server.url)})} == {"same"}


def test_only_an_admin_brings_python(service: RunningService) -> None:
    service.client.add_user("wren", "editor", "otters like quiet reeds")
    editor = Client(service.url, service.client.make_token("wren", role="editor")["token"])
    files = {"all.yaml": definitions("http://127.0.0.1:9"), "lockers.py": HEAD + PAGED}
    for only_check in (True, False):
        with pytest.raises(ServiceProblem) as caught:
            editor.apply(files, only_check=only_check)
        assert (caught.value.status, caught.value.code) == (403, "definition.code_needs_admin")
    assert service.client.definitions() == []
    service.client.apply(files)
    # What is in force may come along with what else an editor changes; anything else may not.
    assert {one["change"] for one in editor.apply(files)} == {"same"}
    with pytest.raises(ServiceProblem):
        editor.apply({**files, "lockers.py": HEAD + PAGED + "\n# more"})
    with pytest.raises(ServiceProblem) as caught:
        editor.apply({"b.yaml": "connector: other\non: python\ncode: other.py\n"})
    assert "there is no file other.py" in str(caught.value.details)
