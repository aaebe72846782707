"""Every code that the product says stands in the list, and nothing else does; docs and command line show that list."""

from __future__ import annotations

import ast
import re
from itertools import pairwise
from pathlib import Path

import pytest

from reedbasket.cli.explain import codes
from reedbasket.cli.main import main

ROOT = Path(__file__).resolve().parents[2]
PACKAGE = ROOT / "src" / "reedbasket"
# What has the form of a code of a known group and is none: names in templates, files, keys of settings.
NONE = {
    "cursor.from", "cursor.until", "window.from", "window.until", "run.id",
    "service.db", "source.signer", "service.json", "service.lock", "service.socket", "source.yaml",
}  # fmt: skip
LEVELS = {"info", "warning", "error"}
CODE = re.compile(r"[a-z_]+\.[a-z_]+[a-z]")


def texts_in(node: ast.AST | None) -> set[str]:
    parts = ast.walk(node) if node is not None else ()
    found = {part.value for part in parts if isinstance(part, ast.Constant) and isinstance(part.value, str)}
    return {text for text in found if CODE.fullmatch(text)}


def where_codes_stand(node: ast.AST) -> set[str]:
    """After a level, as `code`, or as a class's own."""
    if isinstance(node, ast.keyword) and node.arg == "code":
        return texts_in(node.value)
    if isinstance(node, ast.Assign | ast.AnnAssign):
        names = node.targets if isinstance(node, ast.Assign) else [node.target]
        return texts_in(node.value) if any(isinstance(name, ast.Name) and name.id == "code" for name in names) else set()
    items = node.elts if isinstance(node, ast.Tuple) else node.args if isinstance(node, ast.Call) else []
    after_levels = [after for before, after in pairwise(items) if isinstance(before, ast.Constant) and before.value in LEVELS]
    return {text for after in after_levels for text in texts_in(after)}


def said() -> set[str]:
    groups = {code.partition(".")[0] for code in codes()}
    found = {f"definition.unknown_{kind}" for kind in ("connector", "source", "warehouse", "feed")}
    found |= {f"drift.{what}" for what in ("table", "column", "type")}
    for path in PACKAGE.rglob("*.py"):
        tree = ast.parse(path.read_text("utf-8"))
        found |= {text for text in texts_in(tree) if text.partition(".")[0] in groups} - NONE
        for node in ast.walk(tree):
            found |= where_codes_stand(node)
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                found |= set(re.findall(r"\[([a-z_]+\.[a-z_]+)\]", node.value))
    return found


def test_the_list_of_codes_is_whole() -> None:
    known, found = set(codes()), said()
    assert found - known == set()
    text = "\n".join(path.read_text("utf-8") for path in PACKAGE.rglob("*.py"))
    never = {code for code in known - found if f'"{code}' not in text and code.partition(".")[2] not in text}
    assert never == set()
    for code, means in codes().items():
        assert means.endswith(".") and (means[0] == "`" or means[0].isupper()), code


def test_docs_have_the_list() -> None:
    page = (ROOT / "docs" / "codes.md").read_text("utf-8")
    lines = [f"| `{code}` | {means} |" for code, means in codes().items()]
    assert [line for line in page.splitlines() if line.startswith("| `")] == lines


def test_explain(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["explain", "source.cdc_position_lost"]) == 0
    assert "--allow-loss" in capsys.readouterr().out
    assert main(["explain", "extract"]) == 0
    assert "extract.changed" in capsys.readouterr().out
    assert main(["explain", "source.cdc_position_lots"]) == 1
    assert "did you mean source.cdc_position_lost" in capsys.readouterr().err
