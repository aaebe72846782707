"""The wheel alone is a working service, console included."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path
from urllib.parse import urljoin

import urllib3

from tests.conftest import RunningService

ROOT = Path(__file__).parents[2]


def unpacked_wheel(project: Path, folder: Path) -> Path:
    """The wheel of a project, as pip would lay it down."""
    build = [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(folder), str(project)]
    built = subprocess.run(build, capture_output=True, text=True)
    assert built.returncode == 0, built.stdout + built.stderr
    (wheel,) = folder.glob("*.whl")
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(folder / "site")
    return folder / "site"


def test_the_client_alone_needs_no_package(service: RunningService, tmp_path: Path) -> None:
    site = unpacked_wheel(ROOT / "packaging" / "client", tmp_path)
    assert {p.name for p in (site / "reedbasket").iterdir()} == {"__init__.py", "py.typed", "client", "wire"}
    # -S: nothing that is installed can be imported.
    script = f"""
import sys; sys.path.insert(0, {str(site)!r})
from reedbasket.client import Client
with Client({service.client.url!r}, {service.token!r}) as reed:
    print(reed.feeds.list())
"""
    done = subprocess.run([sys.executable, "-S", "-I", "-c", script], capture_output=True, text=True, cwd=tmp_path)
    assert (done.stdout, done.returncode) == ("[]\n", 0), done.stderr


def test_the_wheel_gives_the_whole_service(tmp_path: Path) -> None:
    site = unpacked_wheel(ROOT, tmp_path)
    names = {str(p.relative_to(site)) for p in site.rglob("*") if p.is_file()}
    assert {"reedbasket/service/static/index.html", "reedbasket/store/schema/0001_schema.sql"} <= names
    assert "reedbasket/demo/basket/harbour.yaml" in names
    assert not any("tests/" in n or "node_modules" in n for n in names)

    # Its own code and nothing of the checkout's, beside the installed dependencies.
    environment = {**os.environ, "PYTHONPATH": str(site)}
    where = subprocess.run(
        [sys.executable, "-c", "import reedbasket; print(reedbasket.__file__)"],
        env=environment,
        capture_output=True,
        text=True,
        cwd=tmp_path,
    )
    assert where.stdout.startswith(str(site))
    service = subprocess.Popen(
        [sys.executable, "-m", "reedbasket.cli.main", "serve", "--data", str(tmp_path / "data"), "--port", "0"],
        env=environment, cwd=tmp_path, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        assert service.stdout is not None
        for line in service.stdout:
            if line.startswith("Console"):
                break
        url = json.loads((tmp_path / "data" / "service.json").read_text())["url"]
        page = urllib3.request("GET", url + "/").data.decode()
        assert '<div id="root">' in page
        script = page.split('src="')[1].split('"')[0]
        answer = urllib3.request("GET", urljoin(url + "/", script))
        assert (answer.status, answer.headers["content-type"].split(";")[0]) == (200, "text/javascript")
        assert urllib3.request("GET", url + "/runs/1").status == 200
    finally:
        service.terminate()
        service.wait(20)
