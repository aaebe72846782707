"""A PostgreSQL warehouse that is not as it should be: lost connections, locks, missing rights, TLS that is not there."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from reedbasket.contracts.place import Loader
from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import ConnectionLost, WarehouseBusy, WarehouseError
from reedbasket.core.spec.warehouse import Warehouse
from reedbasket.core.warehouses import open_warehouse
from reedbasket.core.warehouses.postgres import connect
from tests.support.warehouses import Cluster, Place


@pytest.fixture(scope="module")
def cluster() -> Iterator[Cluster]:
    made = Cluster()
    yield made
    made.stop()


class Way:
    """A way to the server that breaks when a COMMIT comes along: before the server hears of it, or before we hear back."""

    def __init__(self, port: int) -> None:
        self.cut: str | None = None
        self.mute = self.mutes = False
        self._port = port
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            near, _ = self._listener.accept()
            far = socket.create_connection(("127.0.0.1", self._port))
            for one, other, outward in ((near, far, True), (far, near, False)):
                threading.Thread(target=self._carry, args=(one, other, outward), daemon=True).start()

    def _carry(self, one: socket.socket, other: socket.socket, outward: bool) -> None:
        try:
            while data := one.recv(65536):
                if outward and self.cut == "executing" and b"E\0\0\0\x09\0" in data:  # prepared before, executed with this
                    self.cut, self.mute = None, self.mutes
                    other.sendall(data)
                    threading.Event().wait(0.3)
                    self.mute = False
                    break
                if outward and self.cut and b"\0commit\0" in data:
                    self.mutes = self.cut == "unheard"
                    self.cut = "executing" if self.cut != "before" else None
                    if self.cut is None:
                        break
                if outward or not self.mute:
                    other.sendall(data)
        except OSError:
            pass
        for end in (one, other):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)


@pytest.mark.parametrize("when", ["before", "unheard", "after"])
def test_a_connection_lost_in_mid_commit_is_looked_into(cluster: Cluster, tmp_path: Path, when: str) -> None:
    place = Place("postgres", tmp_path, cluster)
    way = Way(cluster.port)
    place.definition = place.definition.model_copy(update={"port": way.port})
    loader = Loader(place)
    loader.load([{"id": 1, "v": 1}])

    def cut() -> None:
        way.cut = when

    if when != "before":
        assert loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2}], hold=cut)[0].inserted == 1
        assert place.ask("select count(*) from things") == [(2,)]
    else:
        with pytest.raises(ConnectionLost, match="nothing was committed"):
            loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2}], hold=cut)
        assert place.ask("select v from things") == [(1,)]
    # Either way the next run ends the same.
    loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2}])
    assert place.ask("select id, v from things order by id") == [(1, 2), (2, 2)]


def test_a_lock_that_somebody_holds_is_told(cluster: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connect, "LOCK_SECONDS", 1)
    place = Place("postgres", tmp_path, cluster)
    loader = Loader(place)
    loader.load([{"id": 1}])
    with cluster.connect(autocommit=False) as holder:
        holder.execute(f"lock table {place.schema}.things in access exclusive mode")
        with pytest.raises(WarehouseBusy) as caught:
            loader.load([{"id": 2}])
        assert caught.value.retryable
    assert loader.load([{"id": 2}])[0].inserted == 1


def test_grants_on_a_replaced_table_survive(cluster: Cluster, tmp_path: Path) -> None:
    place = Place("postgres", tmp_path, cluster)
    place.do("create role analyst")
    loader = Loader(place, "replace")
    loader.load([{"id": 1}])
    place.do("grant select on things to analyst")
    loader.load([{"id": 2}])
    assert place.ask(f"select has_table_privilege('analyst', '{place.schema}.things', 'select')") == [(True,)]


def steps(cluster: Cluster, **more: Any) -> dict[str, Any]:
    made = {"warehouse": "w", "type": "postgres", "host": "127.0.0.1", "port": cluster.port, "database": "postgres", "user": "boss",
            "tls": {"mode": "disable"}, **more}  # fmt: skip
    warehouse = open_warehouse(Warehouse.model_validate(made), Places.anywhere(Path("/")), lambda _: "planted-password")
    try:
        return {step.step: step for step in warehouse.check()}
    finally:
        warehouse.close()


def test_check_names_the_step_that_fails_and_the_grant_that_mends_it(cluster: Cluster, tmp_path: Path) -> None:
    with cluster.connect() as boss:
        boss.execute("create role clerk login")
        boss.execute("create schema office")
        boss.execute("grant usage on schema office to clerk")
        boss.execute("revoke temporary on database postgres from public")
    assert all(step.ok for step in steps(cluster, schema="office").values())
    rights = steps(cluster, user="clerk", schema="office")["rights"]
    assert rights.fix == 'GRANT CREATE ON SCHEMA "office" TO "clerk"; GRANT TEMPORARY ON DATABASE "postgres" TO "clerk";'
    missing = steps(cluster, user="clerk", schema="attic")["schema"]
    assert missing.fix == 'CREATE SCHEMA "attic" AUTHORIZATION "clerk";'
    with cluster.connect() as boss:
        boss.execute(rights.fix)
    assert all(step.ok for step in steps(cluster, user="clerk", schema="office").values())

    failing = {
        "host": ("name", "nowhere.invalid"),
        "port": ("port", 1),
        "user": ("login", "nobody"),
        "database": ("login", "none"),
    }
    for key, (step, value) in failing.items():
        found = steps(cluster, **{key: value})
        assert found[step].ok is False, key
        assert found["write"].ok is None
        assert "planted-password" not in str(found)
    tls = steps(cluster, tls={"mode": "require"})["tls"]
    assert (tls.ok, "disable" in tls.fix) == (False, True)
    place = Place("postgres", tmp_path, cluster)
    place.definition = place.definition.model_copy(update={"port": 1})
    with pytest.raises(WarehouseError):
        Loader(place).load([{"id": 1}])


def test_a_role_with_only_what_check_asks_for_can_do_everything(cluster: Cluster, tmp_path: Path) -> None:
    place = Place("postgres", tmp_path, cluster)
    with cluster.connect() as boss:
        boss.execute("create role loader login nosuperuser nocreatedb nocreaterole")
        boss.execute("revoke all on schema public from public")
    place.definition = place.definition.model_copy(update={"user": "loader"})
    warehouse = place.open()
    asked = [step.fix for step in warehouse.check() if not step.ok and step.fix]
    warehouse.close()
    place.do("; ".join(statement.rstrip(";") for statement in asked))
    for write in ("upsert", "replace", "mirror", "versions", "append"):
        loader = Loader(place, write, table=f"by_{write}", deletes="soft" if write == "mirror" else "hard")
        for version in range(3):
            kids = [{"c": version}]
            loader.load(
                [{"id": n, "v": version if version < 2 else "wider", "kids": kids} for n in range(4 - version)], feed=write
            )
        rows = place.ask(f"select count(*), count(distinct v) from by_{write}")
        assert (
            rows
            == {"upsert": [(4, 3)], "replace": [(2, 1)], "mirror": [(4, 3)], "versions": [(9, 3)], "append": [(9, 3)]}[write]
        )
    with cluster.connect() as boss:
        owners = boss.execute("select distinct tableowner from pg_tables where schemaname = %s", (place.schema,)).fetchall()
    assert owners == [("loader",)]


def test_feeds_that_load_at_once_do_not_mix(cluster: Cluster, tmp_path: Path) -> None:
    """Their load ids, ledger lines and tables are their own, from the very first load, which makes the service tables."""
    place = Place("postgres", tmp_path, cluster)
    together, failed = threading.Barrier(4), []

    def loads(number: int) -> None:
        try:
            loader = Loader(place, table=f"things_{number}")
            together.wait(20)
            for turn in range(5):
                records = [{"id": i, "v": turn, "kids": [{"c": turn}]} for i in range(number + 1, 30)]
                loader.load(records, feed=f"feed_{number}", batch=10)
        except BaseException as error:
            failed.append(error)
            raise

    threads = [threading.Thread(target=loads, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert failed == []
    lines = place.ask('select load, feed, "table", inserted, updated from _rb_ledger')
    assert len({line[0] for line in lines}) == len(lines) == 4 * 5 * 2
    for number in range(4):
        rows = 29 - number
        assert place.ask(f"select count(*), min(v), max(v) from things_{number}") == [(rows, 4, 4)]
        assert place.ask(f"select count(*) from things_{number} t join things_{number}_kids k on k._rb_parent = t.id") == [
            (rows,)
        ]
        own = [line for line in lines if line[2] == f"things_{number}"]
        assert {line[1] for line in own} == {f"feed_{number}"}
        assert (sum(line[3] for line in own), sum(line[4] for line in own)) == (rows, 4 * rows)
