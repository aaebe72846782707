"""The way to a PostgreSQL warehouse: protected as the definition says, or not gone at all."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from reedbasket.contracts.place import Loader
from reedbasket.core.errors import WarehouseError
from tests.support.certificates import Authority
from tests.support.warehouses import Cluster, Place


@pytest.fixture(scope="module")
def authorities(tmp_path_factory: pytest.TempPathFactory) -> tuple[Authority, Authority]:
    folder = tmp_path_factory.mktemp("certificates")
    return Authority(folder, "ours"), Authority(folder, "others")


@pytest.fixture(scope="module")
def cluster(authorities: tuple[Authority, Authority]) -> Iterator[Cluster]:
    made = Cluster(authority=authorities[0])
    yield made
    made.stop()


def place_by(cluster: Cluster, folder: Path, mode: str, host: str, root: Path | None) -> Place:
    place = Place("postgres", folder, cluster)
    tls = place.definition.tls.model_copy(update={"mode": mode, "root": str(root) if root else None})
    place.definition = place.definition.model_copy(update={"tls": tls, "host": host})
    return place


@pytest.mark.parametrize(
    ("mode", "host", "trusted"),
    [
        ("disable", "127.0.0.1", None),
        ("require", "127.0.0.1", None),
        ("verify-ca", "127.0.0.1", 0),
        ("verify-full", "localhost", 0),
    ],
)
def test_loads_and_reads_by_each_mode(
    cluster: Cluster, authorities: tuple[Authority, Authority], tmp_path: Path, mode: str, host: str, trusted: int | None
) -> None:
    place = place_by(cluster, tmp_path, mode, host, None if trusted is None else authorities[trusted].root)
    # What the server itself says of the session that loads, while it loads.
    seen: list[tuple[bool, ...]] = []
    question = "select ssl from pg_stat_ssl join pg_stat_activity using (pid) where application_name = 'reed basket'"
    assert Loader(place).load([{"id": 1}], hold=lambda: seen.extend(place.ask(question)))[0].inserted == 1
    assert set(seen) == {(mode != "disable",)}
    warehouse = place.open()
    try:
        encrypted = warehouse.query("select ssl from pg_stat_ssl where pid = pg_backend_pid()", limit=1, seconds=5)
        assert encrypted.rows == [(mode != "disable",)]
        assert all(step.ok for step in warehouse.check())
    finally:
        warehouse.close()


@pytest.mark.parametrize(("mode", "host", "trusted"), [("verify-ca", "localhost", 1), ("verify-full", "127.0.0.1", 0)])
def test_who_cannot_show_the_right_certificate_gets_nothing(
    cluster: Cluster, authorities: tuple[Authority, Authority], tmp_path: Path, mode: str, host: str, trusted: int
) -> None:
    place = place_by(cluster, tmp_path, mode, host, authorities[trusted].root)
    with pytest.raises(WarehouseError):
        Loader(place).load([{"id": 1}])
    warehouse = place.open()
    steps = {step.step: step for step in warehouse.check()}
    warehouse.close()
    assert (steps["tls"].ok, steps["login"].ok) == (False, None)
    assert "certificate" in steps["tls"].found + steps["tls"].fix
