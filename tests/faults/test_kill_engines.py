"""The same on DuckDB and PostgreSQL: a worker killed anywhere, and the next run puts it right."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome
from tests.faults.test_kill import killed, world
from tests.support.feeds import basket_text, run_once
from tests.support.source import Changing, serving
from tests.support.warehouses import Cluster, Place

POINTS = 4


@pytest.fixture(scope="module")
def cluster() -> Iterator[Cluster]:
    made = Cluster()
    yield made
    made.stop()


def contents(place: Place) -> list[Any]:
    things = place.ask("select id, v from things order by id")
    return [things, place.ask("select _rb_parent, _rb_ordinal, seat, price from things_kids order by 1, 2")]


def check_books(place: Place) -> None:
    orphans = """select count(*) from things t where not exists
                 (select 1 from _rb_ledger l where l.load = t._rb_ledger_line and l."table" = 'things')"""
    assert place.ask(orphans) == [(0,)]
    wrong = "select count(*) from _rb_ledger where read <> inserted + updated + deleted + unchanged + superseded + rejected"
    assert place.ask(wrong) == [(0,)]


@pytest.mark.parametrize("engine", ["duckdb", "postgres"])
@pytest.mark.parametrize(("write", "by", "every"), [("upsert", "cursor", 400), ("replace", "full", 100_000)])
def test_killed_at_random_points(
    cluster: Cluster, tmp_path_factory: pytest.TempPathFactory, engine: str, write: str, by: str, every: int
) -> None:
    rng = random.Random(engine + write)
    source_list = Changing(world(1000, 1), page=100)

    def prepared() -> tuple[Place, str]:
        """A warehouse with the first version loaded."""
        place = Place(engine, tmp_path_factory.mktemp(engine), cluster)
        text = basket_text(source.url, write=write, by=by, rows_per_commit=every, warehouse=place.as_yaml)
        source_list.records = world(1000, 1)
        assert run_once(text, place.folder)[0].outcome is RunOutcome.SUCCEEDED
        source_list.records = world(1000, 2)
        return place, text

    with serving(source_list) as source:
        lengths = []
        for _ in range(3):
            whole, text = prepared()
            began = time.monotonic()
            assert not killed(text, whole.folder, 2, 60)
            lengths.append(time.monotonic() - began)
        length = min(lengths)
        expected = contents(whole)
        assert len(expected[0]) == 1100
        cut = 0
        for point in range(POINTS):
            place, text = prepared()
            alive = killed(text, place.folder, 2, rng.uniform(0.2 * length, length))
            cut += alive
            length *= 1.0 if alive else 0.7
            if write == "replace":
                assert place.ask("select count(*) from things")[0][0] in (1000, 1100)
            result, heard = run_once(text, place.folder, run=3)
            assert result.outcome is RunOutcome.SUCCEEDED, (point, result.error)
            assert contents(place) == expected, f"point {point}"
            check_books(place)
            assert all(line.reconciles for line in heard.ledger)
        assert cut > POINTS // 3


def test_a_killed_load_leaves_nothing_beside(tmp_path: Path, cluster: Cluster) -> None:
    """What a killed run was building is cleared by the next."""
    with serving(Changing(world(3000, 1), page=100)) as source:
        for engine in ("duckdb", "postgres"):
            place = Place(engine, tmp_path, cluster)
            text = basket_text(source.url, write="replace", by="full", warehouse=place.as_yaml)
            for number in range(3):
                killed(text, tmp_path, number, 0.6 + 0.2 * number)
            assert run_once(text, tmp_path, run=9)[0].outcome is RunOutcome.SUCCEEDED
            assert [name for name in tables(place) if "beside" in name or "_rb_new" in name] == []
    assert list(tmp_path.rglob("*.arrow")) == []


def tables(place: Place) -> list[str]:
    return [str(row[0]) for row in place.ask("select table_name from information_schema.tables")]
