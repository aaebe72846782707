"""connector new, try and check, as whoever writes a connector uses them; and what a check finds in bad ones."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as xml

import pytest

from reedbasket.cli.main import main as reed
from reedbasket.kit.new import examples, written
from reedbasket.kit.proof import require_proven
from tests.support.source import Answer, Changing, Request, serving

TOKEN = "planted-token-51c9"
RECORDS = [{"id": n, "name": f"item {n}", "updated_at": f"2026-03-01T{n // 60:02d}:{n % 60:02d}:00Z"} for n in range(300)]


class Items(Changing):
    """As what `connector new` makes asks for it."""

    def __call__(self, request: Request) -> Answer:
        if request.headers.get("authorization") != f"Bearer {TOKEN}":
            return Answer({"error": "who are you?"}, 401)
        if "updated_since" in request.query:
            request.query["since"] = request.query["updated_since"]
        if "updated_after" in request.query:
            request.query["since"] = request.query["updated_after"] + "!"
        answer = super().__call__(request)
        return Answer({"items": answer.body["items"], "next": answer.body["meta"]["next"]})


def made(folder: Path, url: str, *more: str) -> Path:
    assert reed(["connector", "new", "lockers", "--folder", str(folder), *more]) == 0
    source = folder / "source.yaml"
    source.write_text(source.read_text().replace("http://127.0.0.1:8801", url))
    return folder


@pytest.fixture(autouse=True)
def token(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("REED_SECRET_LOCKERS_TOKEN", TOKEN)


@pytest.mark.parametrize("way", ["declared", "python"])
def test_from_nothing_to_a_proven_connector(
    way: str, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    items = Items(list(RECORDS), page=100)
    with serving(items) as server:
        folder = made(tmp_path / "lockers", server.url, *(["--python"] if way == "python" else []))
        assert reed(["connector", "new", "lockers", "--folder", str(folder)]) == 1
        assert reed(["connector", "try", str(folder), "--rows", "3"]) == 0
        out = capsys.readouterr().out
        assert "items: 300 read, 300 inserted, 3 requests; saved position: 2026-03-01T04:59:00Z" in out
        assert "item 299" in out and "distinct" in out
        assert json.loads((folder / ".trial/positions.json").read_text())["items"]["value"] == "2026-03-01T04:59:00Z"
        items.records.append({"id": 300, "name": "new", "updated_at": "2026-03-01T05:00:00Z"})
        assert reed(["connector", "try", str(folder)]) == 0
        assert "items: 1 read, 1 inserted" in capsys.readouterr().out
        assert reed(["connector", "check", str(folder), "--record"]) == 0
        out = capsys.readouterr().out
        assert "✗" not in out and "on it brought all 151 records" in out
        assert "✓ a wrong credential fails its check — " in out
    assert TOKEN not in "".join(file.read_text() for file in folder.rglob("*.json"))
    # The API is gone, and so is the token; what was answered is here.
    monkeypatch.delenv("REED_SECRET_LOCKERS_TOKEN")
    assert reed(["connector", "check", str(folder), "--replay", "--format", "junit", "--to-file", str(tmp_path / "r.xml")]) == 0
    suite = xml.parse(tmp_path / "r.xml").getroot()
    assert (suite.get("failures"), int(suite.get("tests") or 0) >= 10) == ("0", True)
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", str(folder)], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout


@pytest.mark.parametrize("example", examples())
def test_what_ships_keeps_what_connectors_promise(example: str, tmp_path: Path) -> None:
    """On what real servers answered, Prometheus and RabbitMQ among them."""
    assert reed(["connector", "new", "ours", "--folder", str(tmp_path / "ours"), "--like", example]) == 0
    require_proven(tmp_path / "ours")
    recorded = "".join(file.read_text() for file in (tmp_path / "ours/answers").iterdir())
    assert "guest:guest" not in recorded and "Z3Vlc3Q6Z3Vlc3Q=" not in recorded and "otter" not in recorded


def test_a_connector_is_short() -> None:
    """Of an API that is paged, signed in and asked for what changed: as many lines as are promised, blank ones and comments aside."""

    def lines(text: str) -> int:
        return sum(bool(line.strip()) and not line.strip().startswith("#") for line in text.splitlines())

    assert lines(written("lockers", python=False)["lockers.yaml"]) <= 20
    assert lines(written("lockers", python=True)["lockers.py"]) <= 40


def broken(folder: Path, change: tuple[str, str]) -> list[dict[str, Any]]:
    for name in ("lockers.yaml", "lockers.py"):
        file = folder / name
        if file.exists():
            file.write_text(file.read_text().replace(*change).replace(", overlap: 5m", ""))
    assert reed(["connector", "check", str(folder), "--format", "json", "--to-file", str(folder / "r.json")]) == 1
    return [proof for proof in json.loads((folder / "r.json").read_text())["proofs"] if proof["ok"] is False]


CHANGES = [
    ("primary_key: id", "primary_key: name_of_it", "every table reads"),
    ("primary_key: id", "primary_key: shelf", "keys are present and unique"),
    ('updated_since: "{cursor.from}"', 'updated_after: "{cursor.from}"', "a full read and an incremental one agree"),
    (
        "pagination: {by: page_token, at: next, param: after}",
        "pagination: {by: page_token, at: next, param: other}",
        "every table reads",
    ),
    (
        'auth: {type: bearer, token: "{settings.token}"}',
        'headers: {authorization: "Bearer planted-token-51c9"}',
        "a wrong credential fails its check",
    ),
]


@pytest.mark.parametrize(("before", "after", "promise"), CHANGES, ids=[after[:20] for _, after, _ in CHANGES])
def test_what_is_wrong_with_a_connector_is_found(before: str, after: str, promise: str, tmp_path: Path) -> None:
    with serving(Items([{**r, "shelf": r["id"] // 2} for r in RECORDS], page=100)) as server:
        found = broken(made(tmp_path / "lockers", server.url), (before, after))
    assert promise in [proof["promise"] for proof in found], found
    assert all(proof["fix"] for proof in found)
