"""What is run in a process that will be killed: one run of a feed, the core alone. Imported ahead by the fork server."""

from __future__ import annotations

from pathlib import Path

from tests.support.feeds import run_once


def run(text: str, folder: str, number: int) -> None:
    run_once(text, Path(folder), run=number)
