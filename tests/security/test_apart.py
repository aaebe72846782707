"""What takes for ever, or all memory, ends by itself, and nobody else waits for it."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import duckdb
import pytest

from reedbasket.client import Client, ServiceProblem
from reedbasket.core.errors import NotFound
from reedbasket.service.inspection_pool import InspectionEnded, InspectionPool
from reedbasket.service.isolated import IsolatedCalls, TookTooLong
from reedbasket.store import Store
from tests.conftest import RunningService

# One call of a function that does not look whether it is to stop, for a quarter of a minute.
ENDLESS = r"select length(regexp_replace(repeat('ab', 30000000), '(a)(b?)(a?)', '\2\1', 'g'))"


def sleeps(_: Store) -> None:
    time.sleep(600)


def grows(_: Store) -> int:
    return len([bytes(1_000_000) for _ in range(100_000)])


def refuses(_: Store, what: str) -> None:
    raise NotFound("looking up", what, found="nothing", fix="name another")


def ends_itself(_: Store) -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def process_of(_: Store) -> int:
    return os.getpid()


@pytest.mark.parametrize(
    ("look", "given", "error"),
    [(sleeps, (), TookTooLong), (grows, (), TookTooLong), (refuses, ("eel",), NotFound), (ends_itself, (), InspectionEnded)],
)
def test_each_has_a_process_of_its_own_that_is_gone_then(
    tmp_path: Path, look: Callable[..., None], given: tuple[str, ...], error: type[Exception]
) -> None:
    store = Store(tmp_path)
    store.upgrade()
    apart = IsolatedCalls(store, 1)
    with pytest.raises(error):
        apart.ask(3.0, 200, look, *given)
    # The next has the only place that there is.
    found = apart.ask(60.0, 200, process_of)
    with pytest.raises(ProcessLookupError):
        os.kill(found, 0)
    store.close()


def test_a_look_that_takes_too_long_is_ended_and_the_next_looks(tmp_path: Path) -> None:
    store = Store(tmp_path)
    store.upgrade()
    looks = InspectionPool(store, 1)
    try:
        before = looks.ask(process_of)
        with pytest.raises(InspectionEnded, match=r"more than 0\.2 s"):
            looks.run_within(0.2, sleeps)
        assert looks.ask(process_of) != before
        with pytest.raises(ProcessLookupError):
            while True:  # until it has gone
                os.kill(before, 0)
                time.sleep(0.01)
    finally:
        looks.stop()
        store.close()


def test_a_query_that_stays_inside_one_function_is_ended(service: RunningService) -> None:
    service.client.definitions.apply({"a.yaml": "warehouse: marsh\ntype: duckdb\npath: m.duckdb\n"})
    service.warehouses.mkdir(exist_ok=True)
    duckdb.connect(str(service.warehouses / "m.duckdb")).execute("create table t as select 1 as a").close()
    with ThreadPoolExecutor(2) as pool:
        asked = [pool.submit(service.client.warehouses.query, "marsh", ENDLESS, seconds=0.1) for _ in range(2)]
        assert service.client.warehouses.query("marsh", "select a from t")["rows"] == [[1]]
        assert service.client.health()["status"] == "ok"
        for one in asked:
            with pytest.raises(ServiceProblem) as refused:
                one.result()
            assert refused.value.code == "service.took_too_long"
    assert service.client.warehouses.query("marsh", "select a from t")["rows"] == [[1]]


def test_an_answer_fits_whoever_reads_it(service: RunningService) -> None:
    service.client.definitions.apply({"a.yaml": "warehouse: marsh\ntype: duckdb\npath: m.duckdb\n"})
    service.warehouses.mkdir(exist_ok=True)
    duckdb.connect(str(service.warehouses / "m.duckdb")).execute("create table t as select repeat('x', 40000000) as a").close()
    wide = "select repeat('x', 5000000) as a from range(10000)"
    for sql, limit in ((wide, 10_000), (wide, 10), ("select a from t", 1)):
        with pytest.raises(ServiceProblem) as refused:
            service.client.warehouses.query("marsh", sql, limit=limit, seconds=30)
        assert refused.value.code in ("warehouse.query_refused", "service.took_too_long"), refused.value
    with pytest.raises(ServiceProblem):
        service.client.warehouses.rows("marsh", "t", limit=1)
    held = Path(f"/proc/{service.process.pid}/status").read_text()
    assert int(held.partition("VmHWM:")[2].split()[0]) < 400_000, "kB of the process that answers"


def test_one_caller_holds_up_nobody_else_by_calls_that_take_long(service: RunningService) -> None:
    service.client.definitions.apply({"a.yaml": "warehouse: marsh\ntype: duckdb\npath: m.duckdb\n"})
    service.warehouses.mkdir(exist_ok=True)
    duckdb.connect(str(service.warehouses / "m.duckdb")).execute("create table t as select 1 as a").close()
    operator = Client(service.url, service.client.tokens.add("one", "operator")["token"])

    def code_of(_: int) -> str:
        with pytest.raises(ServiceProblem) as refused:
            operator.warehouses.query("marsh", ENDLESS, seconds=3)
        return refused.value.code

    with ThreadPoolExecutor(30) as pool:
        asked = [pool.submit(code_of, n) for n in range(30)]
        while not any(one.done() for one in asked):  # those beyond its places are refused at once
            time.sleep(0.05)
        assert service.client.health()["status"] == "ok" and operator.feeds.list() == []
        assert not all(one.done() for one in asked)
        assert [table["name"] for table in service.client.warehouses.tables("marsh")] == ["t"]
        codes = Counter(one.result() for one in asked)
    assert codes["service.busy"] == 22 and sum(codes.values()) == 30


def test_whoever_asks_is_answered_while_a_large_basket_is_read(service: RunningService) -> None:
    sources = "".join(f"---\nsource: s{n}\ntype: files\npath: in\n" for n in range(1_500))
    done = threading.Event()
    answered: list[float] = []

    def ask() -> None:
        while not done.is_set():
            began = time.monotonic()
            service.client.health()
            answered.append(time.monotonic() - began)

    asking = threading.Thread(target=ask)
    asking.start()
    try:
        began = time.monotonic()
        applied = service.client.definitions.apply({"large.yaml": sources}, dry_run=True)
        took = time.monotonic() - began
    finally:
        done.set()
        asking.join()
    assert len(applied) == 1_500
    # In the process that answers, reading would hold up each of them for its whole time.
    assert max(answered) < took / 2
