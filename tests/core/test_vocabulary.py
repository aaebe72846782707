"""Keys that were renamed stand nowhere that people read or copy from: docs, the demo, shipped connectors, templates, messages."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import pytest

from reedbasket.core.kinds import SOURCES, WAREHOUSES
from reedbasket.core.spec.mistakes import OTHER_NAMES
from reedbasket.core.spec.model import KINDS
from reedbasket.core.spec.one_of import OneOf

ROOT = Path(__file__).resolve().parents[2]
# What stood on pages and in terminals before it was said in the trade's words.
OLD_TEXTS = (
    "who asks is shown", "nobody is asked to", "a token by client_credentials", "how pages go on", "how many there are",
    "sent with it", "one more table", "keep the connector", "begin anew", "look anew", "seal it", "its name here",
    "where it is,", "how it is asked", "runs by itself", "key, where another", "came in", "asked for by", "taken before",
    "no trouble", "none needs you", "who changed what", "nothing was asked yet", "what mends", "mends it", "keep it and run",
    "what it offers", "the way in", "put it in force", "go on with it", "look at it anew", "is brought", "what it would cost",
    "only those that", "none of them.", "none is named so", "taken as", "take these", "take all",
)  # fmt: skip
# Codes and groups of them as they were called before.
OLD_CODES = (
    "log.", "late.", "parents.", "body.", "files.same_look", "address.not_found", "access.code_spent", "source.no_right",
    "source.refused", "source.foreign_page", "source.said_error", "source.log_lost", "source.quota_used", "table.no_right",
    "table.not_kept", "warehouse.no_right", "run.taken_up", "run.not_taken_up", "file.gone", "file.passed_over", "file.spoiled",
    "schedule.passed_over", "drift.stopped", "cursor.would_double", "rejects.forgotten", "definition.not_yours",
)  # fmt: skip
# Words that stand in requests, in counts, or as values, in their own right.
ORDINARY = {"csv", "deleted", "first", "fixed", "keep", "next", "offset", "on", "sort", "xlsx"}


def keys_of(model: type[Any], seen: set[type[Any]]) -> Iterator[str]:
    if model in seen:
        return
    seen.add(model)
    if isinstance(model, type) and issubclass(model, OneOf):
        for member in model.member_names() if OneOf in model.__bases__ else ():
            yield from keys_of(model.member(member), seen)  # type: ignore[arg-type]
    for name, field in model.model_fields.items():
        yield field.alias or name
        waiting = [field.annotation]
        while waiting:
            found = waiting.pop()
            waiting += get_args(found)
            if isinstance(found, type) and hasattr(found, "model_fields"):
                yield from keys_of(found, seen)  # type: ignore[arg-type]


def all_keys() -> set[str]:
    registered = [registry.get(name).definition for registry in (SOURCES, WAREHOUSES) for name in registry.names()]
    seen: set[type[Any]] = set()
    # `as` is read before models are: see spec.table_list.
    return {"as", *(key for model in [*KINDS.values(), *registered] for key in keys_of(model, seen))}


def examples(path: Path) -> Iterator[str]:
    """What of a file is code: all of it, or blocks and spans of a page."""
    text = path.read_text()
    if path.suffix != ".md":
        yield text
        return
    yield from re.findall(r"^```yaml\n(.*?)^```", text, re.M | re.S)
    yield from re.findall(r"`([^`\n]+)`", re.sub(r"^```.*?^```", "", text, flags=re.M | re.S))


def messages(path: Path) -> Iterator[str]:
    """What a module says between backticks, its own comments aside."""
    tree = ast.parse(path.read_text())
    told = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in told:
            yield from re.findall(r"`([^`]+)`", node.value)


@pytest.mark.slow
def test_no_message_advises_a_key_that_is_gone() -> None:
    gone = set(OTHER_NAMES) - all_keys() - ORDINARY
    named = re.compile(r"[a-z_]+(?=:)|^[a-z_]+$|(?<=\.)[a-z_]+$|^[a-z_]+(?=\.)")
    package = ROOT / "src" / "reedbasket"
    wrong = [
        f"{path.relative_to(package)}: {found}"
        for path in package.rglob("*.py")
        if path.name != "mistakes.py"  # where old names are told by their new ones
        for found in messages(path)
        if gone & set(named.findall(found))
    ]
    # A backfill's end, in a message of the API.
    assert [one for one in wrong if not one.endswith(": end")] == []


def test_no_page_says_what_was_said_before() -> None:
    sources = (ROOT / "console" / "src").rglob("*.ts*")
    wrong = []
    for path in sources:
        # Comments speak to whoever reads the code.
        text = re.sub(r"/\*.*?\*/|(?<![:\w])//[^\n]*", "", path.read_text(), flags=re.S).lower()
        wrong += [f"{path.relative_to(ROOT)}: {old}" for old in OLD_TEXTS if old in text]
    assert not wrong, "\n".join(wrong)


def test_no_code_stands_anywhere_by_a_name_it_had() -> None:
    written = re.compile(
        r"[\"'`](" + "|".join(re.escape(code) + (r"[a-z_]+" if code.endswith(".") else "") for code in OLD_CODES) + r")[\"'`]"
    )
    places = [ROOT / "README.md", *(ROOT / "docs").rglob("*.md"), *(ROOT / "console" / "src").rglob("*.ts*")]
    places += [*(ROOT / "src" / "reedbasket").rglob("*.py"), *(ROOT / "src" / "reedbasket").rglob("*.yaml")]
    wrong = [f"{path.relative_to(ROOT)}: {found}" for path in places for found in written.findall(path.read_text())]
    assert not wrong, "\n".join(wrong)


def test_no_key_stands_anywhere_by_a_name_it_had() -> None:
    gone = set(OTHER_NAMES) - all_keys() - ORDINARY
    assert {"base", "at_once", "most_runs", "settle"} <= gone and "type" not in gone
    pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md"), *(ROOT / "docs" / "decisions").glob("*.md")]
    pages.remove(ROOT / "docs" / "client.md")  # methods of Python, by names of their own
    package = ROOT / "src" / "reedbasket"
    copied = [*package.glob("demo/basket*/*.yaml"), *package.glob("kit/examples/*/*.yaml"), package / "kit" / "new.py"]
    written = re.compile(rf"(?<![\w.$/-])({'|'.join(sorted(gone))})(?=:(?:\s|$))", re.M)
    wrong = []
    for path in [*pages, *copied]:
        for example in examples(path):
            found = written.findall(example) + [word for word in gone if example == word]
            wrong += [f"{path.relative_to(ROOT)}: {word} in {example[:60]!r}" for word in found]
    assert not wrong, "\n".join(wrong)
