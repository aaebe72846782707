"""Killed in the middle of many passes (windows, children of parents): the next run ends where an uncut one does."""

from __future__ import annotations

import random
import shutil
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.core.test_requests import basket
from tests.faults.test_kill import killed
from tests.support.feeds import run_once, table_rows
from tests.support.source import Answer, Request, serving

POINTS = 8
DAY = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)

WINDOWS = f"""
  things:
    get: /days
    send: {{day: "{{window.from:%Y-%m-%d}}"}}
    window: {{from: "{(DAY - timedelta(days=60)).date()}"}}
"""
CHILDREN = """
  parents: {get: /parents, send: {since: "{cursor.from}"}, key: id, cursor: {column: updated_at, sorted: true}}
  things: {for_each: parents, parents: changed, get: "/parents/{parent.id}/kids", with: {parent: "{parent.id}"}, key: [parent, kid]}
"""


def answer(request: Request) -> Answer:
    time.sleep(0.002)
    if request.path == "/v1/days":
        return Answer([{"day": request.query["day"], "hour": hour} for hour in range(3)])
    if request.path == "/v1/parents":
        times = [f"2026-03-01T00:{n // 60:02d}:{n % 60:02d}Z" for n in range(80)]
        return Answer([{"id": n, "updated_at": at} for n, at in enumerate(times) if at >= request.query.get("since", "")])
    return Answer([{"kid": kid} for kid in "ab"])


@pytest.mark.parametrize(
    ("tables", "feed"),
    [
        (WINDOWS, "commit_every: 20\ntables: {things: {write: append}}"),
        (CHILDREN, "commit_every: 20\ntables: {parents: , things: }"),
    ],
    ids=["windows, appended", "children of changed parents"],
)
def test_killed_between_and_within_passes(tmp_path: Path, tables: str, feed: str) -> None:
    rng = random.Random(tables)
    with serving(answer) as source:
        text = basket(source.url, tables, feed)
        whole = tmp_path / "whole"
        for _ in range(2):
            shutil.rmtree(whole, ignore_errors=True)
            began = time.monotonic()
            assert not killed(text, whole, 1, 60)
            length = time.monotonic() - began
        expected: list[dict[str, Any]] = table_rows(whole, "things")
        assert len(expected) == (180 if "day" in expected[0] else 160)
        cut = 0
        for point in range(POINTS):
            folder = tmp_path / "cut"
            shutil.rmtree(folder, ignore_errors=True)
            alive = killed(text, folder, 1, rng.uniform(0.0, length))
            cut += alive
            length *= 1.0 if alive else 0.9
            result, _ = run_once(text, folder, run=2)
            assert result.error is None
            assert table_rows(folder, "things") == expected, point
    assert cut >= POINTS // 2
