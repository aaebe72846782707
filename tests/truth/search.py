"""Looks for a history that breaks a promise, and makes it as short as can be."""

from __future__ import annotations

import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import hypothesis
from hypothesis import HealthCheck, Phase, given, settings

from tests.truth.history import History, Player, Wrong, histories
from tests.truth.serving import Host


@dataclass
class Found:
    """played: histories; problem: of the first that was wrong, with the shortest history that is wrong alike; '' for none."""

    played: int
    problem: str


def play(history: History, host: Host) -> None:
    """Raises Wrong."""
    with tempfile.TemporaryDirectory(prefix="reed-truth-") as folder:
        Player(history, host, Path(folder)).play()


def search(seed: int, *, examples: int, ends: float = float("inf"), faults: int = 2, shorten: bool = True) -> Found:
    """ends: on the monotonic clock; no new history begins after it. faults: of one run, at most; none: all must be right and green."""
    host = Host()
    played = 0

    @hypothesis.seed(seed)
    @settings(
        max_examples=examples,
        database=None,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        phases=[Phase.generate, Phase.shrink] if shorten else [Phase.generate],
        print_blob=False,
        report_multiple_bugs=False,
    )
    @given(histories(faults))
    def each(history: History) -> None:
        nonlocal played
        if time.monotonic() > ends:
            return
        played += 1
        try:
            play(history, host)
        except Wrong as wrong:
            raise Wrong(f"{wrong}\n{history}") from None

    try:
        each()
    except Wrong as wrong:
        return Found(played, str(wrong))
    except Exception as crash:
        return Found(played, f"{type(crash).__name__}: {crash}\n" + "\n".join(getattr(crash, "__notes__", [])))
    finally:
        host.close()
    return Found(played, "")
