"""Warehouses for tests: every engine, for real."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.support.dock import Dock
from tests.support.maria import LOG, Maria
from tests.support.warehouses import ENGINES, TOY, Cluster, Place, server_for


@pytest.fixture(scope="session")
def cluster(request: pytest.FixtureRequest) -> Iterator[Cluster]:
    _require_servers(request)
    made = Cluster(["wal_level=logical"])
    yield made
    made.stop()


@pytest.fixture
def dock(cluster: Cluster) -> Iterator[Dock]:
    made = Dock(cluster)
    yield made
    # What follows the log outlives its tables.
    made.do("select pg_drop_replication_slot(slot_name) from pg_replication_slots")
    made.do("drop publication if exists reed_test")
    made.do(f"drop schema {made.schema} cascade")
    made.db.close()


@pytest.fixture(scope="session")
def maria(request: pytest.FixtureRequest) -> Iterator[Maria]:
    _require_servers(request)
    made = Maria(LOG)
    yield made
    made.stop()


def _require_servers(request: pytest.FixtureRequest) -> None:
    if request.config.getoption("--quick"):
        pytest.skip("needs a server")


@pytest.fixture(params=[*ENGINES, TOY])
def engine(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def new_place(engine: str, tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest) -> Callable[[], Place]:
    def make() -> Place:
        folder: Path = tmp_path_factory.mktemp(engine)
        return Place(engine, folder, server_for(engine, request))

    return make


@pytest.fixture
def place(new_place: Callable[[], Place]) -> Place:
    return new_place()
