"""Running things in turn, each in a process of its own, and their medians."""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
from collections.abc import Callable
from typing import Any


def in_turn(rounds: int, ours: Callable[[], float], baseline: Callable[[], float]) -> tuple[float, float]:
    """(median of ours, median of the baseline), A B B A …, after one uncounted round. What runs right behind the other finds another
    machine than what runs before it, so each is first in every second round."""
    mine: list[float] = []
    theirs: list[float] = []
    for number in range(rounds + 1):
        pair = [(ours, mine), (baseline, theirs)]
        if number % 2:
            pair.reverse()
        for run, taken in pair:
            taken.append(run())
    return statistics.median(mine[1:]), statistics.median(theirs[1:])


def child(module: str, *arguments: str) -> dict[str, Any]:
    """Run a module's `main` in a fresh process; it prints its figures as JSON in its last line."""
    done = subprocess.run([sys.executable, "-m", module, *arguments], capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(f"{module} failed:\n{done.stdout}\n{done.stderr}")
    found: dict[str, Any] = json.loads(done.stdout.strip().splitlines()[-1])
    return found


def result(ours: float, baseline: float, rss_mb: float, **more: Any) -> dict[str, Any]:
    return {
        "ratio": round(ours / baseline, 2),
        "ours_s": round(ours, 3),
        "baseline_s": round(baseline, 3),
        "rss_mb": round(rss_mb),
        **more,
    }


def own_peak_mb() -> float:
    """Peak memory of this process. Not getrusage's, which begins with what the parent had when it forked."""
    with open("/proc/self/status") as status:
        return next(int(line.split()[1]) / 1024 for line in status if line.startswith("VmHWM"))
