"""One source into several warehouses: read once, loaded into each, and what fails in one leaves the others alone."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import duckdb
import pytest

from reedbasket.core.errors import DefinitionError, SecretMissing
from reedbasket.core.runs import RunOutcome, run_feed
from reedbasket.core.shaping.shaper import Shaper
from reedbasket.core.spec import load_texts
from tests.support.feeds import SECRET, Heard, basket_text, order_for, run_context_for, run_once
from tests.support.source import Changing, serving

pytestmark = pytest.mark.slow

MORE = "\n---\nwarehouse: duck\ntype: duckdb\npath: duck.duckdb\ntable_prefix: d_\n---\nwarehouse: third\ntype: sqlite\npath: third.db\n"


def record(n: int, **more: Any) -> dict[str, Any]:
    made = {
        "id": n,
        "name": f"thing {n}",
        "deep": {"a": {"b": n}},
        "kids": [{"n": n}, {"n": None}],
        "updated_at": f"2026-03-01T06:{n:02d}:00Z",
    }
    return made | more


def text_of(url: str, into: str = "[marsh, duck, third]", **more: Any) -> str:
    return basket_text(url, **more).replace("into: marsh", f"into: {into}") + MORE


def rows(folder: Path, warehouse: str, table: str = "things") -> list[tuple[Any, ...]]:
    columns = "id, name, deep_a_b" if table == "things" else "n"
    if warehouse == "duck":
        with duckdb.connect(str(folder / "duck.duckdb"), read_only=True) as db:
            return sorted(db.execute(f"select {columns} from d_{table}").fetchall(), key=repr)
    with closing(sqlite3.connect(folder / f"{warehouse}.db")) as db:
        return sorted(db.execute(f"select {columns} from {table}").fetchall(), key=repr)


def require_alike(folder: Path, count: int) -> None:
    for table, times in (("things", 1), ("things_kids", 2)):
        first = rows(folder, "marsh", table)
        assert len(first) == count * times
        assert rows(folder, "duck", table) == first and rows(folder, "third", table) == first


@pytest.mark.parametrize(("write", "by"), [("upsert", "cursor"), ("append", "cursor"), ("mirror", "full"), ("replace", "full")])
def test_read_once_and_loaded_into_each(tmp_path: Path, write: str, by: str) -> None:
    source = Changing([record(n) for n in range(40)], page=10)
    with serving(source) as server:
        text = text_of(server.url, write=write, by=by)
        result, heard = run_once(text, tmp_path)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        assert len(server.requests) == 4 == len(heard.requests)
        assert [(one.table, one.warehouse, one.inserted) for one in result.tables] == [
            ("things", "", 40), ("things", "duck", 40), ("things", "third", 40),
        ]  # fmt: skip
        require_alike(tmp_path, 40)
        source.records.append(record(40))
        result, _ = run_once(text, tmp_path, run=2)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        require_alike(tmp_path, 41)
        assert len(server.requests) == (5 if by == "cursor" else 9)


def test_a_batch_is_shaped_once_for_those_that_have_learned_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The second warehouse's tables have names of their own, so that it shapes for itself; a structure that moves moves in each."""
    shaped: list[str] = []
    shape = Shaper.shape

    def counted(self: Shaper, records: Any, *more: Any, **named: Any) -> Any:
        shaped.append(self.structure.name)
        return shape(self, records, *more, **named)

    monkeypatch.setattr(Shaper, "shape", counted)
    # More than one batch; the last has a column more, and a name that is none of a text.
    source = Changing(
        [record(n, updated_at=f"2026-03-01T{n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}Z") for n in range(4100)], page=100
    )
    source.records[-1] |= {"late": 1, "name": {"first": "a"}}
    with serving(source) as server:
        text = text_of(server.url, write="upsert", by="full")
        result, _ = run_once(text, tmp_path)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        assert len(shaped) >= 6 and shaped.count("things") == shaped.count("d_things")
        with closing(sqlite3.connect(tmp_path / "marsh.db")) as db, closing(sqlite3.connect(tmp_path / "third.db")) as other:
            everything = "select * from things order by id"
            columns = [[row[0] for row in one.execute(everything).description] for one in (db, other)]
            assert "late" in columns[0] and columns[0] == columns[1]
            ours = [[row[:-1] for row in one.execute(everything)] for one in (db, other)]
            assert len(ours[0]) == 4100 and ours[0] == ours[1]
        # One that begins anew has learned nothing yet: it shapes for itself, and takes nothing from the others.
        (tmp_path / "third.db").unlink()
        shaped.clear()
        assert run_once(text, tmp_path, run=2)[0].outcome is RunOutcome.SUCCEEDED
        assert shaped.count("things") == 2 * shaped.count("d_things") > 0
        require_alike(tmp_path, 4100)


@pytest.mark.parametrize("write", ["upsert", "append"])
@pytest.mark.parametrize("breaks", ["marsh", "duck"])
def test_one_that_fails_leaves_the_others_alone_and_catches_up(tmp_path: Path, write: str, breaks: str) -> None:
    source = Changing([record(n) for n in range(20)], page=10)
    file = tmp_path / {"marsh": "marsh.db", "duck": "duck.duckdb"}[breaks]
    with serving(source) as server:
        text = text_of(server.url, write=write)
        assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
        whole = file.read_bytes()
        file.write_bytes(b"no database at all, for a while" * 200)
        source.records += [record(n) for n in range(20, 30)]
        result, _ = run_once(text, tmp_path, run=2)
        assert result.outcome is RunOutcome.FAILED
        phases = {one.warehouse or "marsh": one.phase for one in result.tables}
        assert phases == {name: "failed" if name == breaks else "done" for name in ("marsh", "duck", "third")}
        assert result.error is not None and result.error["code"].startswith("warehouse.")
        assert len(rows(tmp_path, "third")) == 30
        file.write_bytes(whole)
        source.records.append(record(30))
        asked = len(server.requests)
        result, _ = run_once(text, tmp_path, run=3)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        require_alike(tmp_path, 31)
        # The one that was behind read for itself; the two others together.
        assert len(server.requests) - asked == 3
        asked = len(server.requests)
        assert run_once(text, tmp_path, run=4)[0].outcome is RunOutcome.SUCCEEDED
        assert len(server.requests) - asked == 1


@pytest.mark.parametrize("place", [0, 1])
def test_one_whose_secret_is_missing_fails_by_itself(tmp_path: Path, place: int) -> None:
    lacking = "\n---\nwarehouse: far\ntype: postgres\nhost: 127.0.0.1\ndatabase: a\nuser: b\npassword: {secret: never_set}\n"
    into = ["marsh", "third"]
    into.insert(place, "far")

    def reveal(name: str) -> str:
        if name == "never_set":
            raise SecretMissing("revealing", name, found="it is not set", fix="set it")
        return SECRET

    with serving(Changing([record(n) for n in range(20)], page=10)) as server:
        order = order_for(text_of(server.url, f"[{', '.join(into)}]") + lacking)
        context = replace(run_context_for(order, tmp_path), reveal=reveal)
        result = run_feed(order, context, listener=Heard(), clock=lambda: datetime.now(UTC))
    assert result.outcome is RunOutcome.FAILED
    codes = {one.warehouse or into[0]: one.error["code"] if one.error else "" for one in result.tables}
    assert codes == {"far": "secret.missing", "marsh": "", "third": ""}
    assert rows(tmp_path, "marsh") == rows(tmp_path, "third") and len(rows(tmp_path, "marsh")) == 20


def test_where_none_can_be_opened_each_says_why(tmp_path: Path) -> None:
    more = "".join(
        f"\n---\nwarehouse: {name}\ntype: postgres\nhost: 127.0.0.1\ndatabase: a\nuser: b\npassword: {{secret: never_set}}\n"
        for name in ("far", "farther")
    )

    def reveal(name: str) -> str:
        if name == "never_set":
            raise SecretMissing("revealing", name, found="it is not set", fix="set it")
        return SECRET

    order = order_for(text_of("http://127.0.0.1:9", "[far, farther]") + more)
    result = run_feed(
        order, replace(run_context_for(order, tmp_path), reveal=reveal), listener=Heard(), clock=lambda: datetime.now(UTC)
    )
    assert result.outcome is RunOutcome.FAILED
    assert [one.error["code"] for one in result.tables if one.error] == ["secret.missing"] * 2


def test_one_that_is_behind_reads_a_database_after_the_others(tmp_path: Path) -> None:
    """Over one connection: two passes at once would take each other's rows."""

    def add(first: int, last: int) -> None:
        with closing(sqlite3.connect(tmp_path / "dock.db")) as db:
            db.execute("create table if not exists parts (id integer primary key, name text, at text)")
            rows_of = [
                (n, f"part {n}", f"2026-03-01T{n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}Z") for n in range(first, last)
            ]
            db.executemany("insert into parts values (?, ?, ?)", rows_of)
            db.commit()

    text = """source: test
type: sqlite
path: dock.db
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: [marsh, duck, third]
tables: [{table: parts, changes: {by: cursor, column: id}, write: append}]
"""
    add(0, 20_000)
    assert run_once(text + MORE, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    whole = (tmp_path / "duck.duckdb").read_bytes()
    (tmp_path / "duck.duckdb").write_bytes(b"no database at all" * 500)
    add(20_000, 50_000)
    assert run_once(text + MORE, tmp_path, run=2)[0].outcome is RunOutcome.FAILED
    (tmp_path / "duck.duckdb").write_bytes(whole)
    add(50_000, 70_000)
    result, _ = run_once(text + MORE, tmp_path, run=3)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    counted = "select count(*), count(distinct id), sum(id) from"
    found = [sqlite3.connect(tmp_path / f"{name}.db").execute(f"{counted} parts").fetchone() for name in ("marsh", "third")]
    with duckdb.connect(str(tmp_path / "duck.duckdb"), read_only=True) as db:
        found.append(db.execute(f"{counted} d_parts").fetchone())
    assert found == [(70_000, 70_000, sum(range(70_000)))] * 3


def test_what_the_source_cannot_give_fails_in_each(tmp_path: Path) -> None:
    result, heard = run_once(text_of("http://127.0.0.1:9"), tmp_path)
    assert result.outcome is RunOutcome.FAILED
    assert {one.error["code"] for one in result.tables if one.error} == {"source.unreachable"}
    assert [one.phase for one in result.tables] == ["failed"] * 3 and isinstance(heard, Heard)


@pytest.mark.parametrize(
    ("into", "code"),
    [
        ("[marsh, marsh]", "definition.bad_value"),
        ("[marsh, nowhere]", "definition.unknown_warehouse"),
        ("[]", "definition.bad_value"),
    ],
)
def test_mistakes(into: str, code: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"a.yaml": text_of("http://x", into)})
    assert code in [mistake["code"] for mistake in caught.value.details or []], caught.value.details
