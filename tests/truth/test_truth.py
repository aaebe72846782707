"""The short form: fixed seeds, so that what is found once is found again. `make truth` plays new histories for as long as is wanted."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.truth.faults import FAULTS
from tests.truth.search import search

ROOT = Path(__file__).parent


@pytest.mark.parametrize(("seed", "faults"), [(1, 0), (2, 0), (3, 1), (4, 1), (5, 2), (6, 2)])
def test_a_run_that_says_succeeded_has_brought_what_the_source_holds(seed: int, faults: int) -> None:
    """faults: of one run, at most; without any, all must be right and green."""
    found = search(seed, examples=15, faults=faults)
    assert not found.problem, found.problem


def test_the_oracle_does_not_know_the_product() -> None:
    assert len(FAULTS) >= 60
    for name in ("world", "serving", "faults", "spoiling", "oracle"):
        assert "reedbasket" not in (ROOT / f"{name}.py").read_text(), name
