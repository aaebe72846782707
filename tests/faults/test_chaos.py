"""Half a minute of what `python -m tests.faults.chaos` does for five."""

from __future__ import annotations

from tests.faults.chaos import chaos


def test_every_window_comes_in_once_whatever_goes_wrong() -> None:
    print(chaos(feeds=20, seconds=20, seed=11, step="10s"))
