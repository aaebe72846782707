"""Every code that the product says stands in the list, and nothing else does; docs and command line show that list."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from reedbasket.cli.explain import codes
from reedbasket.cli.main import main

ROOT = Path(__file__).resolve().parents[2]
PACKAGE = ROOT / "src" / "reedbasket"
# What has the form of a code and is none: names in templates, files, keys of settings.
NONE = {
    "cursor.from", "cursor.until", "window.from", "window.until", "run.started", "run.id",
    "service.db", "source.signer", "service.json", "service.lock", "service.socket", "source.yaml",
}  # fmt: skip


def said() -> set[str]:
    groups = "|".join({code.partition(".")[0] for code in codes()})
    written = re.compile(rf'"((?:{groups})\.[a-z][a-z_]+)"')
    texts = [path.read_text("utf-8") for path in PACKAGE.rglob("*.py")]
    made = {f"definition.unknown_{kind}" for kind in ("connector", "source", "warehouse", "feed")}
    made |= {f"drift.{what}" for what in ("table", "column", "type")}
    return {code for text in texts for code in written.findall(text)} - NONE | made


def test_the_list_of_codes_is_whole() -> None:
    known = set(codes())
    assert said() - known == set()
    text = "\n".join(path.read_text("utf-8") for path in PACKAGE.rglob("*.py"))
    never = {code for code in known - said() if f'"{code}' not in text and code.partition(".")[2] not in text}
    assert never == set()
    for code, means in codes().items():
        assert means.endswith(".") and (means[0] == "`" or means[0].isupper()), code


def test_docs_have_the_list() -> None:
    page = (ROOT / "docs" / "codes.md").read_text("utf-8")
    lines = [f"| `{code}` | {means} |" for code, means in codes().items()]
    assert [line for line in page.splitlines() if line.startswith("| `")] == lines


def test_explain(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["explain", "source.log_lost"]) == 0
    assert "--allow-loss" in capsys.readouterr().out
    assert main(["explain", "extract"]) == 0
    assert "extract.changed" in capsys.readouterr().out
    assert main(["explain", "source.log_lots"]) == 1
    assert "did you mean source.log_lost" in capsys.readouterr().err
