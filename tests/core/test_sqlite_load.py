"""Loading into SQLite: every mode against a plain Python model, and the rules that readers and other programs rely on."""

from __future__ import annotations

import json
import sqlite3
import threading
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from reedbasket.core.errors import CursorMoved, NotFound, NotReconciled, QueryRefused, TableNotOurs, WarehouseBusy
from reedbasket.core.load import LedgerLine, LoadTarget, Position, SavedCursor
from reedbasket.core.load.sqlite import connect
from reedbasket.core.load.sqlite.warehouse import SqliteWarehouse
from reedbasket.core.shape import Shaper, TableShape

Write = Literal["append", "replace", "merge"]


class Loader:
    """Loads lists of records into one table, as a run would, each list in a load of its own."""

    def __init__(self, folder: Path, write: Write = "merge", key: list[str] | None = None, table: str = "things") -> None:
        self.path = folder / "marsh.db"
        self.write: Write = write
        self.key = ["id"] if key is None else key
        self.link: Literal["key", "row"] = "row" if write == "append" or not self.key else "key"
        self.table = table

    def load(self, records: list[dict[str, Any]], *, feed: str = "test", batch: int = 3) -> list[LedgerLine]:
        with ExitStack() as stack:
            warehouse = SqliteWarehouse(self.path)
            stack.callback(warehouse.close)
            state = warehouse.state(feed, "things")
            shaper = Shaper(state.structure if state else TableShape(self.table), self.key, self.link)
            target = LoadTarget(1, feed, "src", "things", self.table, self.write, self.key, self.link, "at")
            load = warehouse.begin(target, state)
            owner = rejected = 0
            stack.callback(load.close)
            for start in range(0, len(records), batch):
                shaped = shaper.shape(records[start : start + batch], owner)
                owner += shaped.records
                rejected += len(shaped.rejects)
                load.stage(shaped.batches)
            now = datetime.now(UTC)
            return load.commit(shaper.structure, Position(SavedCursor("text", "x"), None, rejected, 0, 0, now), now)

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        db = sqlite3.connect(self.path)
        try:
            return db.execute(sql).fetchall()
        finally:
            db.close()


keys = st.integers(1, 6)
child = st.fixed_dictionaries({"c": st.integers(0, 3)}, optional={"deep": st.lists(st.just({"d": 1}), max_size=2)})
extras = {
    "at": st.sampled_from(["a", "b", "c"]),
    "kids": st.lists(child, max_size=3),
    "o": st.fixed_dictionaries({"p": st.booleans()}),
}
record = st.fixed_dictionaries({"id": keys, "v": st.integers(0, 3)}, optional=extras)
loads = st.lists(st.lists(record, max_size=7), min_size=1, max_size=4)


def newest(records: list[dict[str, Any]]) -> dict[int, dict[str, Any]]:
    """The version of each key that must win within one load: the highest `at`, nulls lowest, then the last."""
    best: dict[int, tuple[tuple[str, int], dict[str, Any]]] = {}
    for order, item in enumerate(records):
        rank = (item.get("at") or "", order)
        if item["id"] not in best or rank > best[item["id"]][0]:
            best[item["id"]] = (rank, item)
    return {key: item for key, (_, item) in best.items()}


def flat(item: dict[str, Any]) -> tuple[Any, ...]:
    inner = item.get("o") or {}
    return (item["id"], item["v"], item.get("at"), inner.get("p"))


def children(items: list[dict[str, Any]]) -> list[tuple[str, int, int, int]]:
    return sorted((str(i["id"]), n, k["c"], len(k.get("deep", []))) for i in items for n, k in enumerate(i.get("kids") or []))


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(loads, st.sampled_from(["append", "replace", "merge"]))
def test_all_modes_hold_what_a_plain_model_holds(tmp_path_factory: pytest.TempPathFactory, batches: Any, write: Write) -> None:
    loader = Loader(tmp_path_factory.mktemp("model"), write)
    rows: list[dict[str, Any]] = []
    for records in batches:
        before = {r["id"]: r for r in rows}
        lines = loader.load(records)
        root = lines[0]
        won = newest(records)
        if write == "append":
            rows += records
            assert (root.inserted, root.superseded) == (len(records), 0)
        else:
            assert root.superseded == len(records) - len(won)
            if write == "replace":
                assert (root.inserted, root.removed) == (len(won), len(rows))
                rows = list(won.values())
            else:
                fresh = [k for k in won if k not in before]
                changed = [k for k in won if k in before and flat(won[k]) != flat(before[k])]
                assert (root.inserted, root.updated) == (len(fresh), len(changed))
                assert root.unchanged == len(won) - len(fresh) - len(changed)
                rows = list((before | won).values())
        assert all(line.reconciles for line in lines)
        assert {line.load for line in lines} <= {r[0] for r in loader.ask("select load from _rb_ledger")}

    there = {r[1] for r in loader.ask("select cid, name from pragma_table_info('things')")}
    if not rows:
        assert not there or loader.ask("select count(*) from things") == [(0,)]
        return
    wanted = [c if c in there else "null" for c in ("id", "v", "at", "o_p")]
    loaded = [
        (i, v, at, None if p is None else bool(p)) for i, v, at, p in loader.ask(f"select {', '.join(wanted)} from things")
    ]
    assert sorted(loaded, key=repr) == sorted(map(flat, rows), key=repr)

    if write == "append" or not loader.ask("select 1 from sqlite_master where name = 'things_kids'"):
        return
    deep = "0"
    if loader.ask("select 1 from sqlite_master where name = 'things_kids_deep'"):
        deep = "(select count(*) from things_kids_deep d where d._rb_parent = k._rb_parent || '/' || k._rb_pos)"
        assert loader.ask(
            "select count(*) from things_kids_deep where _rb_parent not in (select _rb_parent || '/' || _rb_pos from things_kids)"
        ) == [(0,)]
    held = [(str(p), n, c, d) for p, n, c, d in loader.ask(f"select _rb_parent, _rb_pos, c, {deep} from things_kids k")]
    assert sorted(held) == children(rows)


def test_children_follow_their_parents_as_a_set(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    loader.load([{"id": 1, "kids": [{"c": 1}, {"c": 2}, {"c": 3}]}, {"id": 2, "kids": [{"c": 9}]}])
    lines = {line.table: line for line in loader.load([{"id": 1, "kids": [{"c": 1}, {"c": 5}]}])}
    assert (lines["things"].unchanged, lines["things"].updated) == (1, 0)
    kids = lines["things_kids"]
    assert (kids.unchanged, kids.updated, kids.inserted, kids.removed) == (1, 1, 0, 1)
    assert loader.ask("select _rb_parent, c from things_kids order by 1, 2") == [(1, 1), (1, 5), (2, 9)]
    gone = {line.table: line for line in loader.load([{"id": 1, "kids": None}])}
    assert gone["things_kids"].removed == 2


def test_appended_children_point_at_their_own_row(tmp_path: Path) -> None:
    loader = Loader(tmp_path, "append")
    for _ in range(2):
        loader.load([{"id": 1, "kids": [{"c": 1, "deep": [{"d": 7}]}, {"c": 2}]}])
    joined = "select count(*), count(distinct r._rb_row) from things r join things_kids k on k._rb_parent = r._rb_row"
    assert loader.ask(joined) == [(4, 2)]
    assert loader.ask(
        "select count(*) from things_kids k join things_kids_deep d on d._rb_parent = k._rb_parent || '/' || k._rb_pos"
    ) == [(2,)]


def test_a_replace_without_a_key_swaps_the_whole_with_its_children(tmp_path: Path) -> None:
    loader = Loader(tmp_path, "replace", key=[])
    loader.load([{"n": 1, "kids": [{"c": 1}, {"c": 2}]}, {"n": 1, "kids": []}, {"n": 2}])
    lines = {line.table: line for line in loader.load([{"n": 3, "kids": [{"c": 9}]}])}
    assert (lines["things"].inserted, lines["things"].removed) == (1, 3)
    assert (lines["things_kids"].inserted, lines["things_kids"].removed) == (1, 2)
    assert loader.ask("select n, c from things t join things_kids k on k._rb_parent = t._rb_row") == [(3, 9)]
    emptied = {line.table: line.removed for line in loader.load([])}
    assert emptied == {"things": 1, "things_kids": 1}


def test_keys_of_several_columns_and_of_every_kind(tmp_path: Path) -> None:
    loader = Loader(tmp_path, key=["line", "day"])
    first = [{"line": "A", "day": "2026-03-01", "n": 1, "kids": [{"c": 1}]}, {"line": "A", "day": "2026-03-02", "n": 2}]
    loader.load(first)
    lines = loader.load([{**first[0], "n": 5, "kids": [{"c": 2}]}, {"line": "B", "day": "2026-03-01", "n": 3}])
    assert (lines[0].inserted, lines[0].updated) == (1, 1)
    assert loader.ask("select c from things_kids k join things t on k._rb_parent = json_array(line, day)") == [(2,)]
    assert loader.ask("select name from sqlite_master where type = 'index' and sql like '%unique%' order by 1") == [
        ("things_key",),
        ("things_kids_key",),
    ]


def test_values_come_back_as_they_were(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    huge = 2**70 + 1
    loader.load(
        [
            {"id": 1, "whole": 2**53 + 1, "huge": huge, "part": 0.1, "empty": "", "none": None, "yes": True, "day": "2026-03-02",
             "at": "2026-03-02T08:00:00.5+02:00", "code": "0.10", "mix": [1, {"a": "ü"}], "nul": "a\x00b"}
        ]
    )  # fmt: skip
    (row,) = loader.ask("select whole, huge, part, empty, yes, day, at, code, mix, nul from things")
    assert row == (
        2**53 + 1,
        str(huge),
        0.1,
        "",
        1,
        "2026-03-02",
        "2026-03-02 06:00:00.500000Z",
        "0.10",
        '[1,{"a":"ü"}]',
        "a\x00b",
    )
    declared = dict(loader.ask("select name, type from pragma_table_info('things')"))
    assert declared["huge"] == "DECIMAL TEXT"
    assert declared["at"] == "TIMESTAMP TEXT"
    assert "none" not in declared
    assert loader.ask("select strftime('%H:%M', at), at > datetime('2026-03-02 05:59:59') from things") == [("06:00", 1)]


def test_columns_widen_without_losing_a_value_and_views_survive(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    loader.load([{"id": 1, "n": 7, "f": 0.1}, {"id": 2, "n": 8, "f": 1e21}])
    db = sqlite3.connect(loader.path)
    db.execute("create view seen as select id, n from things")
    db.close()
    from decimal import Decimal

    lines = loader.load([{"id": 3, "n": 0.5, "f": Decimal("0.1234567890123456789"), "late": "x"}])
    assert lines[0].inserted == 1
    assert loader.ask("select n, f from things order by id") == [(7, "0.1"), (8, "1e+21"), (0.5, "0.1234567890123456789")]
    assert loader.ask("select typeof(n) from things where id = 1") == [("real",)]
    assert loader.ask("select count(*) from seen") == [(3,)]
    assert (loader.load([{"id": 3, "n": 1.5}])[0].updated, len(loader.ask("select * from things"))) == (1, 3)


def test_wide_long_and_odd_names(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    wide: dict[str, Any] = {f"c{i}": i for i in range(1600)}
    odd = {"x" * 300: 1, "🚢": 2, "select": 3, 'quo"te; drop table things': 4, "rowid": 5, "_rb_load": 6}
    loader.load([{"id": 1, **wide, **odd}])
    assert loader.load([{"id": 1, **wide, **odd}])[0].unchanged == 1
    (row,) = loader.ask('select c1599, "select", rowid, x_rb_load from things')
    assert row == (1599, 3, 5, 6)


def test_readers_never_see_a_table_empty_or_half_written(tmp_path: Path) -> None:
    loader = Loader(tmp_path, "replace")
    sizes = [3000, 2000]
    loader.load([{"id": i, "round": 0} for i in range(sizes[0])], batch=1000)
    seen: set[tuple[int, int]] = set()
    done = threading.Event()

    def read() -> None:
        db = sqlite3.connect(loader.path)
        while not done.is_set():
            seen.add(db.execute("select count(*), count(distinct round) from things").fetchone())
        db.close()

    reader = threading.Thread(target=read)
    reader.start()
    for turn in range(1, 8):
        loader.load([{"id": i, "round": turn} for i in range(sizes[turn % 2])], batch=1000)
    done.set()
    reader.join()
    assert seen <= {(size, 1) for size in sizes}
    assert len(seen) == 2


def test_an_empty_replace_empties_and_an_empty_merge_changes_nothing(tmp_path: Path) -> None:
    loader = Loader(tmp_path, "replace")
    loader.load([{"id": 1}])
    assert loader.load([])[0].removed == 1
    assert loader.ask("select count(*) from things") == [(0,)]
    loader = Loader(tmp_path, "merge", table="others")
    loader.load([{"id": 1}], feed="second")
    (line,) = loader.load([], feed="second")
    assert (line.read, line.removed) == (0, 0)


@pytest.mark.parametrize("made", ["create table things (id integer, mine text)", "create view things as select 1 as id"])
def test_what_someone_else_made_is_left_alone(tmp_path: Path, made: str) -> None:
    loader = Loader(tmp_path)
    db = sqlite3.connect(loader.path)
    db.execute(made)
    db.close()
    with pytest.raises(TableNotOurs, match="prefix"):
        loader.load([{"id": 1}])
    assert loader.ask("select count(*) from things") in ([(0,)], [(1,)])
    assert not loader.ask("select 1 from sqlite_master where name like '_rb_%'")


def test_another_feeds_table_and_another_runs_commit(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    loader.load([{"id": 1}])
    with pytest.raises(TableNotOurs, match="the feed test writes"):
        loader.load([{"id": 2}], feed="other")

    warehouse = SqliteWarehouse(loader.path)
    state = warehouse.state("test", "things")
    target = LoadTarget(9, "test", "src", "things", "things", "merge", ["id"], "key", None)
    slow = warehouse.begin(target, state)
    shaped = Shaper(TableShape("things"), ["id"], "key").shape([{"id": 5}], 0)
    slow.stage(shaped.batches)
    loader.load([{"id": 2}])  # another run is quicker
    now = datetime.now(UTC)
    with pytest.raises(CursorMoved, match="run again"):
        slow.commit(shaped.structure, Position(None, None, 0, 0, 0, now), now)
    warehouse.close()
    assert loader.ask("select id from things order by id") == [(1,), (2,)]


def test_a_lock_held_by_another_program_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    loader = Loader(tmp_path)
    loader.load([{"id": 1}])
    monkeypatch.setattr(connect, "BUSY_SECONDS", 0.1)
    holder = sqlite3.connect(loader.path, isolation_level=None)
    holder.execute("begin immediate")
    with pytest.raises(WarehouseBusy, match="lock") as caught:
        loader.load([{"id": 2}])
    assert caught.value.retryable
    holder.execute("rollback")
    holder.close()
    assert loader.load([{"id": 2}])[0].inserted == 1


def test_a_ledger_that_does_not_add_up_stops_the_load() -> None:
    line = LedgerLine(
        load=1, run=1, feed="f", source="s", source_table="t", table="t", write="merge", read=5, staged=5, inserted=4, updated=0,
        deleted=0, unchanged=0, superseded=0, rejected=0, removed=0, repeated=0, cursor_from=None, cursor_to=None,
        source_bytes=0, started="", ended="",
    )  # fmt: skip
    assert not line.reconciles
    with pytest.raises(NotReconciled, match="read 5, but inserted 4"):
        line.require_reconciled()


def test_a_failed_commit_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    loader = Loader(tmp_path)
    loader.load([{"id": 1, "v": 1}])
    before = loader.ask("select * from things"), loader.ask("select version, load from _rb_cursor")
    monkeypatch.setattr(LedgerLine, "reconciles", property(lambda _: False))
    with pytest.raises(NotReconciled):
        loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2, "new": "column"}])
    assert (loader.ask("select * from things"), loader.ask("select version, load from _rb_cursor")) == before


def test_reading_is_read_only_and_bounded(tmp_path: Path) -> None:
    loader = Loader(tmp_path)
    empty = SqliteWarehouse(tmp_path / "none.db")
    assert (empty.tables(), empty.ledger()) == ([], [])
    with pytest.raises(NotFound):
        empty.query("select 1", limit=1, seconds=1)
    assert not (tmp_path / "none.db").exists()

    loader.load([{"id": i} for i in range(30)])
    warehouse = SqliteWarehouse(loader.path)
    shown = warehouse.rows("things", limit=10)
    assert (len(shown.rows), shown.truncated) == (10, True)
    assert warehouse.query("select count(*) as n from things", limit=5, seconds=5).rows == [(30,)]
    for sql in (
        "delete from things", "create table a (b)", "attach database 'other.db' as o", "pragma query_only = off", "select 1; select 2",
        "vacuum into 'copy.db'", "selec", "",
    ):  # fmt: skip
        with pytest.raises(QueryRefused):
            warehouse.query(sql, limit=5, seconds=5)
    endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select max(i) from n"
    with pytest.raises(QueryRefused, match="took more than"):
        warehouse.query(endless, limit=5, seconds=0.1)
    with pytest.raises(NotFound, match="reed tables"):
        warehouse.rows("nothing", limit=1)
    (info,) = warehouse.tables()
    assert (info.name, info.rows, info.feed) == ("things", 30, "test")
    assert json.dumps(warehouse.ledger()[0].as_dict())
    warehouse.close()
    assert loader.ask("select count(*) from things") == [(30,)]
