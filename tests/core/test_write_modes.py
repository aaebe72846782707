"""Random loads through every mode and engine, against a plain Python model of what the tables must hold."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from reedbasket.contracts.place import Loader, columns_of
from reedbasket.core.warehouses.loader import stage
from tests.support.warehouses import Place

child = st.fixed_dictionaries({"c": st.integers(0, 3)}, optional={"deep": st.lists(st.just({"d": 1}), max_size=2)})
extras = {
    "at": st.sampled_from(["a", "b", "c"]),
    "kids": st.lists(child, max_size=3),
    "o": st.fixed_dictionaries({"p": st.booleans()}),
}
record = st.fixed_dictionaries({"id": st.integers(1, 6), "v": st.integers(0, 3)}, optional=extras)
loads = st.lists(st.lists(record, max_size=7), min_size=1, max_size=4)
WAYS = ["append", "replace", "upsert", "mirror", "mirror soft", "mirror ignore", "versions", "versions complete"]
quick = settings(max_examples=5, suppress_health_check=list(HealthCheck))


def newest(records: list[dict[str, Any]]) -> dict[int, dict[str, Any]]:
    """The version of each key that must win within one load: the highest `at`, nulls lowest, then the last."""
    best: dict[int, tuple[tuple[str, int], dict[str, Any]]] = {}
    for order, item in enumerate(records):
        rank = (item.get("at") or "", order)
        if item["id"] not in best or rank > best[item["id"]][0]:
            best[item["id"]] = (rank, item)
    return {key: item for key, (_, item) in best.items()}


def flat(item: dict[str, Any]) -> tuple[Any, ...]:
    return (item["id"], item["v"], item.get("at"), (item.get("o") or {}).get("p"))


def children(items: list[dict[str, Any]]) -> list[tuple[str, int, int, int]]:
    return sorted((str(i["id"]), n, k["c"], len(k.get("deep", []))) for i in items for n, k in enumerate(i.get("kids") or []))


class Model:
    """What the table must hold. rows: by key, or all of them where rows of one key may repeat."""

    def __init__(self) -> None:
        self.rows: list[dict[str, Any]] = []
        self.marked: dict[int, dict[str, Any]] = {}
        self.versions: dict[int, int] = {}

    def load(self, way: str, records: list[dict[str, Any]]) -> dict[str, int]:
        """The counts that the ledger must show."""
        mode, _, how = way.partition(" ")
        if mode == "append":
            self.rows = self.rows + records
            return {"inserted": len(records), "updated": 0, "unchanged": 0, "superseded": 0, "removed": 0}
        before, won = {r["id"]: r for r in self.rows}, newest(records)
        counts = {"superseded": len(records) - len(won), "removed": 0}
        if mode == "replace":
            counts |= {"inserted": len(won), "updated": 0, "unchanged": 0, "removed": len(self.rows)}
            self.rows, self.marked = list(won.values()), {}
            return counts
        revived = [k for k in won if k in self.marked]
        fresh = [k for k in won if k not in before and k not in self.marked]
        changed = [k for k in won if k in before and flat(won[k]) != flat(before[k])]
        counts |= {"inserted": len(fresh), "updated": len(changed) + len(revived)}
        counts["unchanged"] = len(won) - counts["inserted"] - counts["updated"]
        gone: list[int] = []
        if (mode == "mirror" and how != "ignore") or how == "complete":
            gone = [k for k in before if k not in won]
        counts["removed"] = len(gone)
        for key in [*fresh, *changed]:
            self.versions[key] = self.versions.get(key, 0) + 1
        for key in gone:
            if how == "soft":
                self.marked[key] = before[key]
        for key in revived:
            del self.marked[key]
        self.rows = list({k: v for k, v in (before | won).items() if k not in gone}.values())
        return counts


def held(loader: Loader, way: str, *, marked: bool = False) -> list[tuple[Any, ...]]:
    there = columns_of(loader.place, "things")
    if not there:
        return []
    wanted = [f'"{c}"' if c in there else "null" for c in ("id", "v", "at", "o_p")]
    only = current(way, there, marked)
    found = loader.ask(f"select {', '.join(wanted)} from things{only}")
    return sorted(((i, v, at, None if p is None else bool(p)) for i, v, at, p in found), key=repr)


def current(way: str, there: dict[str, str], marked: bool = False) -> str:
    if way.startswith("versions"):
        return " where _rb_valid_until is null"
    if "_rb_deleted_at" in there:
        return f" where _rb_deleted_at is {'not ' if marked else ''}null"
    return " where 1 = 0" if marked else ""


def held_children(loader: Loader, way: str) -> list[tuple[str, int, int, int]]:
    there = columns_of(loader.place, "things_kids")
    if not there:
        return []
    deeper = columns_of(loader.place, "things_kids_deep")
    rows = loader.ask(f"select _rb_parent, _rb_ordinal, c from things_kids{current(way, there)}")
    deep = loader.ask(f"select _rb_parent from things_kids_deep{current(way, deeper)}") if deeper else []
    count: dict[str, int] = {}
    for (parent,) in deep:
        count[parent] = count.get(parent, 0) + 1
    places = {f"{p}/{n}" for p, n, _ in rows}
    assert set(count) <= places
    return sorted((str(p), n, c, count.get(f"{p}/{n}", 0)) for p, n, c in rows)


def check(loader: Loader, way: str, model: Model) -> None:
    assert held(loader, way) == sorted(map(flat, model.rows), key=repr)
    assert held(loader, way, marked=True) == sorted(map(flat, model.marked.values()), key=repr) or way.startswith("versions")
    if way != "append":
        assert held_children(loader, way) == children(model.rows)


def prepared(loader: Loader, way: str) -> Loader:
    loader.write, _, how = way.partition(" ")
    loader.deletes = how if how in ("soft", "ignore") else "hard"
    loader.complete = loader.write in ("mirror", "replace") or how == "complete"
    return loader


def test_rows_to_append_may_wait_in_memory(new_place: Callable[[], Place], monkeypatch: pytest.MonkeyPatch) -> None:
    """Whether all of them, some or none: what is loaded is the same, also where a column widens or comes while they wait."""
    more = [{"id": 2, "v": 2}, {"id": 3, "v": 2.5}, {"id": 4, "v": None}, {"id": 5, "at": "b"}, {"id": 6, "kids": [{"c": 1}]}]
    for most in (0, 8, 10_000):
        monkeypatch.setattr(stage, "_MOST_WAITING", most)
        loader = prepared(Loader(new_place()), "append")
        loader.load([{"id": 1, "v": 1}])
        lines = loader.load(more, batch=1)
        found = loader.ask('select id, v, "at", _rb_ledger_line from things order by id')
        assert found == [(1, 1, None, 1), *((r["id"], r.get("v"), r.get("at"), lines[0].load) for r in more)]
        assert all(line.reconciles for line in lines) and lines[0].inserted == len(more)
        assert loader.ask("select c from things_kids") == [(1,)]
        loader.load([{"id": 7, "v": 7}], batch=1)
        assert loader.ask("select count(*) from things") == [(len(more) + 2,)]
    bare = Loader(new_place(), "append", [])
    for _ in range(2):  # no column is known of these
        bare.load([{"n": None}] * 3)
    assert bare.ask("select count(*) from things") == [(6,)]


@quick
@given(loads, st.sampled_from(WAYS), st.sampled_from([3, 100]))
def test_all_modes_hold_what_a_plain_model_holds(new_place: Callable[[], Place], batches: Any, way: str, batch: int) -> None:
    loader, model = prepared(Loader(new_place()), way), Model()
    for records in batches:
        wanted = model.load(way, records)
        lines = loader.load(records, batch=batch)
        assert {name: getattr(lines[0], name) for name in wanted} == wanted
        assert all(line.reconciles for line in lines)
        assert {line.load for line in lines} <= {r[0] for r in loader.ask('select "load" from _rb_ledger')}
        check(loader, way, model)
    if way.startswith("versions") and "id" in columns_of(loader.place, "things"):
        versions = dict(loader.ask("select id, count(*) from things group by id"))
        assert versions == model.versions
        assert not loader.ask("select 1 from things where _rb_valid_until < _rb_valid_from")


@quick
@given(st.lists(st.tuples(st.sampled_from(WAYS[1:]), st.lists(record, max_size=6)), min_size=2, max_size=4))
def test_a_feed_may_change_its_way_of_writing(new_place: Callable[[], Place], steps: Any) -> None:
    """All ways but append know one row a key; whatever the order, what is held is what the present way means."""
    loader, model = Loader(new_place()), Model()
    for way, records in steps:
        wanted = model.load(way, records)
        if not way.endswith("soft"):
            model.rows, model.marked = after_unmarking(model, way, records)
        lines = prepared(loader, way).load(records)
        assert lines[0].superseded == wanted["superseded"]
        assert all(line.reconciles for line in lines)
        check(loader, way, model)


def dead(item: dict[str, Any]) -> bool:
    return item["v"] == 3


@quick
@given(loads, st.sampled_from(["upsert", "upsert soft", "upsert ignore", "mirror", "versions"]), st.sampled_from([2, 100]))
def test_records_that_say_they_are_gone(new_place: Callable[[], Place], batches: Any, way: str, batch: int) -> None:
    """Of one key the latest record counts, whether it says so or not; what goes is counted as deleted, once."""
    loader, rows, marked = prepared(Loader(new_place(), gone=dead), way), dict[int, Any](), dict[int, Any]()
    for records in batches:
        ignored = [r for r in records if dead(r)] if way.endswith("ignore") else []
        won = newest([r for r in records if r not in ignored])
        going = [k for k, r in won.items() if dead(r)]
        live = {k: r for k, r in won.items() if k not in going}
        held_ones = [k for k in going if k in rows]
        missing = [k for k in rows if k not in won] if way == "mirror" else []
        line = loader.load(records, batch=batch)[0]
        assert line.reconciles
        assert (line.read, line.deleted, line.removed) == (len(records), len(held_ones), len(missing))
        assert line.superseded == len(records) - len(ignored) - len(won)
        assert line.inserted + line.updated == sum(1 for k, r in live.items() if k not in rows or flat(r) != flat(rows[k]))
        if way.endswith("soft"):
            marked |= {k: rows[k] for k in held_ones}
            marked = {k: r for k, r in marked.items() if k not in live}
        rows = {k: r for k, r in (rows | live).items() if k not in going and k not in missing}
        model = Model()
        model.rows, model.marked = list(rows.values()), marked
        check(loader, way, model)


def after_unmarking(model: Model, way: str, records: list[dict[str, Any]]) -> Any:
    """Rows marked before stay marked, unless the way of writing ends or removes them."""
    return model.rows, ({} if way.startswith(("versions", "replace")) else model.marked)


@quick
@given(loads, st.sampled_from(["upsert", "mirror", "versions"]), st.lists(record, max_size=5))
def test_from_append_to_a_key_and_back(new_place: Callable[[], Place], batches: Any, way: str, last: Any) -> None:
    loader, model = prepared(Loader(new_place()), "append"), Model()
    for records in batches:
        loader.load([{k: v for k, v in r.items() if k != "kids"} for r in records])
        model.load("append", [{k: v for k, v in r.items() if k != "kids"} for r in records])
    kept: dict[int, dict[str, Any]] = {}
    for row in model.rows:  # by cursor, then by load
        if row["id"] not in kept or (row.get("at") or "") >= (kept[row["id"]].get("at") or ""):
            kept[row["id"]] = row
    model.rows = list(kept.values())
    model.load(way, last)
    prepared(loader, way).load(last)
    check(loader, way, model)
    prepared(loader, "append").load(last)
    assert len(held(loader, "append")) == len(model.rows) + len(last)
