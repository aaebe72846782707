"""The same feed into each engine, through the service: what the API shows of it is the same."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.service.test_service import prepare
from tests.support.maria import Maria
from tests.support.source import Changing, serving
from tests.support.warehouses import ENGINES, TOY, Cluster, Place, server_for


@pytest.fixture(scope="module")
def cluster() -> Iterator[Cluster]:
    made = Cluster()
    yield made
    made.stop()


def record(number: int, **more: Any) -> dict[str, Any]:
    made = {"id": number, "name": f"thing {number}", "big": 2**53 + number, "price": 0.5 * number, "open": number % 2 == 0,
            "day": "2026-03-02", "updated_at": f"2026-03-01T06:{number:02d}:00Z", "kids": [{"c": number}]}  # fmt: skip
    return made | more


@pytest.fixture(autouse=True)
def toys(monkeypatch: pytest.MonkeyPatch) -> None:
    """Known to the service's processes too, as a package that somebody installed."""
    found = [str(Path(__file__).parents[1] / "contracts/toys"), os.environ.get("PYTHONPATH", "")]
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join(filter(None, found)))


@pytest.fixture(scope="module")
def maria() -> Iterator[Maria]:
    made = Maria()
    yield made
    made.stop()


@pytest.fixture(params=[*ENGINES, TOY])
def place(request: pytest.FixtureRequest, service: RunningService) -> Place:
    """In the service's own folder, so that both see the same file."""
    return Place(request.param, service.warehouses, server_for(request.param, request))


def test_a_feed_from_its_first_run_to_its_profile(service: RunningService, place: Place) -> None:
    client, records = service.client, [record(n) for n in range(30)]
    with serving(Changing(records)) as source:
        prepare(client, source.url, write="mirror", by="full", table="deletes: soft", warehouse=place.as_yaml)
        assert all(step["ok"] for step in client.warehouses.check("marsh"))
        first = client.feeds.run("test", wait_seconds=30)
        assert (first["outcome"], first["totals"]["inserted"]) == ("succeeded", 30), first["error"]
        records[3] = record(3, name="renamed", fresh="late")
        del records[10]
        planned = client.feeds.plan("test")["tables"][0]
        assert (planned["losses"], [d["words"] for d in planned["drift"]]) == (
            [],
            ["new column things.fresh (text), from the field fresh"],
        )
        second = client.feeds.run("test", wait_seconds=30)
        lines = {line["table"]: line for line in client.feeds.ledger("test") if line["run"] == second["id"]}
        counts = [lines["things"][name] for name in ("read", "inserted", "updated", "unchanged", "removed")]  # type: ignore[literal-required]
        assert counts == [29, 0, 1, 28, 1]
        assert lines["things_kids"]["removed"] == 1
        assert [(d["what"], d["column"]) for d in client.feeds.drift("test")] == [("column", "fresh")]
        verified = {v["table"]: v for v in client.feeds.verify("test", deep=True)}
        assert {name: (v["same"], v["source"], v["warehouse"]) for name, v in verified.items()} == {
            "things": (True, 29, 29),
            "things_kids": (True, 29, 29),
        }
        # A type that widened at the source since is compared all the same.
        records[5] = record(5, price="five")
        differs = client.feeds.verify("test", deep=True)[0]
        assert (differs["same"], differs["differing"]) == (False, 1), differs["error"]
        assert {"what": "differs", "key": ["5"], "values": {"price": ["five", "2.5"]}} in differs["samples"]
        # So is a key: it cannot be found, which is told, and no error of the engine's.
        records[5], records[6] = record(5), {**record(6), "id": "six"}
        verified = {v["table"]: v for v in client.feeds.verify("test")}
        for name in ("things", "things_kids"):
            found = verified[name]
            assert (found["error"], found["only_source"], found["only_warehouse"]) == (None, 1, 1)
    rows = client.warehouses.rows("marsh", "things", limit=100)
    names = [column["name"] for column in rows["columns"]]
    assert [n for n in names if not n.startswith("_rb_")] == [
        "id",
        "name",
        "big",
        "price",
        "open",
        "day",
        "updated_at",
        "fresh",
    ]
    shown = {row[0]: dict(zip(names, row)) for row in rows["rows"]}
    assert (shown[3]["name"], shown[3]["fresh"], shown[3]["big"]) == ("renamed", "late", str(2**53 + 3))
    assert (shown[10]["_rb_deleted_at"] is not None, shown[9]["_rb_deleted_at"]) == (True, None)
    profile = {c["name"]: c for c in client.warehouses.profile("marsh", "things")["columns"]}
    assert (profile["fresh"]["nulls"], profile["name"]["distinct"]) == (29, 30)
    assert (float(str(profile["price"]["min"])), float(str(profile["price"]["max"]))) == (0.0, 14.5)
    answer = client.warehouses.query("marsh", "select sum(c) from things_kids where _rb_deleted_at is null")
    assert int(answer["rows"][0][0]) == sum(range(30)) - 10
    with pytest.raises(ServiceProblem, match="reed tables"):
        client.warehouses.rows("marsh", "nothing")
    assert {t["name"]: t["rows"] for t in client.warehouses.tables("marsh")} == {"things": 30, "things_kids": 30}
