"""The short form: fixed seeds, so that what is found once is found again. `make truth` plays new histories for as long as is wanted."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.truth import over_files, sql_faults
from tests.truth.faults import FAULTS
from tests.truth.search import Servers, search

ROOT = Path(__file__).parent


@pytest.fixture(scope="module")
def servers() -> Iterator[Servers]:
    made = Servers()
    yield made
    made.close()


@pytest.mark.parametrize(("source", "seed", "faults"), [
    ("http", 1, 0), ("http", 3, 1), ("http", 5, 2), ("http", 6, 2),
    ("files", 1, 1), ("sqlite", 1, 1), ("postgres", 1, 1), ("mariadb", 1, 1),
])  # fmt: skip
def test_a_run_that_says_succeeded_has_brought_what_the_source_holds(
    servers: Servers, source: str, seed: int, faults: int
) -> None:
    """faults: of one run, at most; without any, all must be right and green. Kills fall where they fall, and are left to `make truth`."""
    found = search(seed, servers, examples=6, sources=[source], faults=faults)
    assert not found.problem, found.problem


def test_the_oracle_does_not_know_the_product() -> None:
    assert len(FAULTS) + len(sql_faults.FAULTS) + len(over_files.FAULTS) >= 100
    for name in (
        "world",
        "serving",
        "faults",
        "spoiling",
        "spoiling_pages",
        "databases",
        "sql_faults",
        "houses",
        "oracle",
        "below",
    ):
        assert "reedbasket" not in (ROOT / f"{name}.py").read_text(), name
