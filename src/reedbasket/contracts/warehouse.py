"""What all warehouses have in common: the rules that readers and other programs rely on.

class TestDikes(WarehouseContract):
    @pytest.fixture
    def place(self, tmp_path): return DikePlace(tmp_path)
"""

from __future__ import annotations

import json
import threading
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

from ..core.errors import CursorMoved, NotFound, NotReconciled, QueryRefused, TableNotOwned, WarehouseError
from ..core.records.layout import Family, TableLayout
from ..core.records.structure import ColumnShape
from ..core.shaping import Shaper, TableBatch, TableShape
from ..core.warehouses import LedgerLine, LoadTarget, Position
from .place import Loader, Place, columns_of


class WarehouseContract:
    """The tests need a fixture `place`, made anew for each."""

    def test_children_follow_their_parents_as_a_set(self, place: Place) -> None:
        loader = Loader(place)
        loader.load([{"id": 1, "kids": [{"c": 1}, {"c": 2}, {"c": 3}]}, {"id": 2, "kids": [{"c": 9}]}])
        lines = {line.table: line for line in loader.load([{"id": 1, "kids": [{"c": 1}, {"c": 5}]}])}
        assert (lines["things"].unchanged, lines["things"].updated) == (1, 0)
        kids = lines["things_kids"]
        assert (kids.unchanged, kids.updated, kids.inserted, kids.removed) == (1, 1, 0, 1)
        assert loader.ask("select _rb_parent, c from things_kids order by 1, 2") == [(1, 1), (1, 5), (2, 9)]
        gone = {line.table: line for line in loader.load([{"id": 1, "kids": None}])}
        assert gone["things_kids"].removed == 2

    def test_appended_children_point_at_their_own_row(self, place: Place) -> None:
        loader = Loader(place, "append")
        for _ in range(2):
            loader.load([{"id": 1, "kids": [{"c": 1, "deep": [{"d": 7}]}, {"c": 2}]}])
        joined = (
            "select count(*), count(distinct r._rb_row_key) from things r join things_kids k on k._rb_parent = r._rb_row_key"
        )
        assert loader.ask(joined) == [(4, 2)]
        assert loader.ask(
            "select count(*) from things_kids k join things_kids_deep d on d._rb_parent = k._rb_parent || '/' || k._rb_ordinal"
        ) == [(2,)]

    def test_a_replace_without_a_key_swaps_the_whole_with_its_children(self, place: Place) -> None:
        loader = Loader(place, "replace", key=[])
        loader.load([{"n": 1, "kids": [{"c": 1}, {"c": 2}]}, {"n": 1, "kids": []}, {"n": 2}])
        lines = {line.table: line for line in loader.load([{"n": 3, "kids": [{"c": 9}]}])}
        assert (lines["things"].inserted, lines["things"].removed) == (1, 3)
        assert (lines["things_kids"].inserted, lines["things_kids"].removed) == (1, 2)
        assert loader.ask("select n, c from things t join things_kids k on k._rb_parent = t._rb_row_key") == [(3, 9)]
        truncated = {line.table: line.removed for line in loader.load([])}
        assert truncated == {"things": 1, "things_kids": 1}

    def test_keys_of_several_columns_and_of_every_kind(self, place: Place) -> None:
        loader = Loader(place, key=["line", "day"])
        first = [{"line": "A", "day": "2026-03-01", "n": 1, "kids": [{"c": 1}]}, {"line": "A", "day": "2026-03-02", "n": 2}]
        loader.load(first)
        lines = loader.load([{**first[0], "n": 5, "kids": [{"c": 2}]}, {"line": "B", "day": "2026-03-01", "n": 3}])
        assert (lines[0].inserted, lines[0].updated) == (1, 1)
        assert loader.ask("select c, n from things_kids k join things t on k._rb_parent = t._rb_row_key") == [(2, 5)]
        assert loader.load([])[0].inserted == 0

    def test_values_come_back_as_they_were(self, place: Place) -> None:
        loader = Loader(place)
        huge = 2**70 + 1
        loader.load(
            [
                {"id": 1, "whole": 2**53 + 1, "huge": huge, "part": 0.1, "empty": "", "none": None, "yes": True, "day": "2026-03-02",
                 "seen": "2026-03-02T08:00:00.5+02:00", "code": "0.10", "mix": [1, {"b": "ü", "a": 1}], "exact": Decimal("0.10"),
                 "long": Decimal("123456789012345678901234567890123456789.5")},
                {"id": 2, "empty": None, "exact": Decimal("-1e3")},
            ]
        )  # fmt: skip
        assert "none" not in columns_of(place, "things")
        columns = 'whole, huge, part, empty, yes, day, seen, code, mix, exact, "long"'
        assert loader.load([{"id": 2, "empty": None, "exact": Decimal("-1000.0")}])[0].unchanged == 1
        found, other = place.ask(f"select {columns} from things order by id")
        # An engine without times of its own keeps them as text.
        as_text = isinstance(found[5], str)
        seen = "2026-03-02 06:00:00.500000Z" if as_text else datetime(2026, 3, 2, 6, 0, 0, 500_000, UTC)
        day = "2026-03-02" if as_text else date(2026, 3, 2)
        assert found[0] == 2**53 + 1
        assert (Decimal(found[1]), found[2], found[3], bool(found[4])) == (Decimal(huge), 0.1, "", True)
        assert (found[5], found[6], found[7]) == (day, seen, "0.10")
        assert (json.loads(found[8]) if isinstance(found[8], str) else found[8]) == [1, {"a": 1, "b": "ü"}]
        assert (Decimal(found[9]), Decimal(found[10])) == (Decimal("0.1"), Decimal("123456789012345678901234567890123456789.5"))
        assert (other[3], Decimal(other[9])) == (None, Decimal(-1000))

    def test_what_arrow_brings_comes_back_as_it_was(self, place: Place) -> None:
        """Numbers that JSON does not have, bytes and uuids: in batches of columns, as databases and files bring them."""
        kinds: dict[str, Any] = {"id": "int64", "f": "double", "b": "binary", "u": "uuid", "d": "decimal"}
        family = Family(
            [TableLayout("things", None, "text", [ColumnShape(n, k, 30, 8) for n, k in kinds.items()])], ["id"], None, "key"
        )
        warehouse = place.open()
        odd = [float("nan"), float("inf")] if warehouse.value_limits.not_finite else [1e308, 5e-324]
        held: dict[str, Any] = {
            "id": ("int64", pa.array([1, 2, 3, -(2**63)])),
            "f": ("double", pa.array([*odd, -0.0, None])),
            "b": ("binary", pa.array([b"\x00\xff", b"", None, b"a"])),
            "u": ("uuid", pa.array(["00000000-0000-4000-8000-000000000001", None, None, None])),
            "d": ("decimal", pa.array([Decimal("99999999999999999999.00000001"), None, None, None], pa.decimal128(38, 8))),
        }
        for turn in range(2):
            state = warehouse.state("test", "things")
            load = warehouse.begin(LoadTarget(1, "test", "src", "things", "things", "upsert", ["id"], "key"), state)
            load.stage(family, [TableBatch("things", 4, range(4), columns=held)])
            now = datetime.now(UTC)
            lines = load.commit(family, TableShape("things").to_data(), Position(None, None, 0, 0, 0, now), now)
            load.close()
            assert (lines[0].inserted, lines[0].unchanged) == ((4, 0) if turn == 0 else (0, 4))
        warehouse.close()
        rows = place.ask("select id, f, b, u, d from things order by id")
        assert [r[0] for r in rows] == [-(2**63), 1, 2, 3]
        assert (str(rows[1][1]).lower(), rows[2][1], rows[3][1], rows[0][1]) == (str(odd[0]), odd[1], 0.0, None)
        assert [r[2] if r[2] is None else bytes(r[2]) for r in rows] == [b"a", b"\x00\xff", b"", None]
        assert (str(rows[1][3]), Decimal(rows[1][4])) == (held["u"][1][0].as_py(), Decimal("99999999999999999999.00000001"))

    def test_columns_widen_in_place_without_losing_a_value(self, place: Place) -> None:
        loader = Loader(place)
        first = {
            "n": 7,
            "f": 0.1,
            "d": "2026-03-02",
            "t": "2026-03-02T06:00:00Z",
            "b": True,
            "w": 2**60,
            "x": 5,
            "k": [{"v": 1}],
            "g": 5.0,
            "h": 1e15,
        }
        loader.load([{"id": 1, **first}, {"id": 2, **first}])
        place.do("create view seen as select id, n, x from things")
        wider = {"n": 0.5, "f": Decimal("0.1234567890123456789"), "d": "2026-03-02T12:00:00Z", "t": "soon", "b": 1, "w": "many",
                 "x": {"deep": 1}, "k": [{"v": "text"}], "g": "five", "h": "much"}  # fmt: skip
        lines = loader.load([{"id": 3, **wider, "late": "x"}])
        assert (lines[0].inserted, lines[0].rejected) == (1, 0)
        rows = place.ask("select n, f, d, t, b, w, x, late from things order by id")
        assert [float(r[0]) for r in rows] == [7, 7, 0.5]
        assert [Decimal(r[1]) for r in rows] == [Decimal("0.1"), Decimal("0.1"), Decimal("0.1234567890123456789")]
        assert [str(r[2])[:19] for r in rows] == ["2026-03-02 00:00:00"] * 2 + ["2026-03-02 12:00:00"]
        assert [r[3] for r in rows] == ["2026-03-02T06:00:00Z"] * 2 + ["soon"]
        as_json = [r[4] if isinstance(r[4], bool | int) else json.loads(r[4]) for r in rows]
        assert as_json == [True, True, 1]
        assert [r[5] for r in rows] == [str(2**60)] * 2 + ["many"]
        assert [json.loads(r[6]) if isinstance(r[6], str) else r[6] for r in rows] == [5, 5, {"deep": 1}]
        assert [r[7] for r in rows] == [None, None, "x"]
        assert place.ask("select count(*) from seen") == [(3,)]
        assert [str(r[0]) for r in place.ask("select v from things_k order by _rb_parent")] == ["1", "1", "text"]
        assert place.ask("select g, h from things order by id") == [("5.0", "1000000000000000.0")] * 2 + [("five", "much")]
        # Widened as they are, the same records again change nothing.
        kept = {name: first[name] for name in first if name not in "bt"}
        assert loader.load([{"id": 1, **kept, "b": True, "t": first["t"]}])[0].unchanged == 1
        assert loader.load([{"id": 3, **wider, "late": "x"}])[0].unchanged == 1
        assert loader.load([{"id": 3, **wider, "late": "y"}])[0].updated == 1

    def test_wide_long_and_odd_names(self, place: Place) -> None:
        loader = Loader(place)
        # A row must also fit on a page of 8 kB.
        count = place.most_columns - 20
        wide: dict[str, Any] = {f"c{i}": i % 2 == 0 for i in range(count)}
        odd = {"x" * 300: 1, "🚢": 2, "select": 3, 'quo"te; drop table things': 4, "rowid": 5, "_rb_ledger_line": 6}
        loader.load([{"id": 1, **wide, **odd}])
        assert loader.load([{"id": 1, **wide, **odd}])[0].unchanged == 1
        (row,) = loader.ask(f'select c{count - 1}, "select", rowid, x_rb_ledger_line from things')
        assert (bool(row[0]), *row[1:]) == (False, 3, 5, 6)

    def test_too_many_columns_are_told_before_anything_is_written(self, place: Place) -> None:
        with pytest.raises(WarehouseError, match="eave columns out"):
            Loader(place).load([{"id": 1, **{f"c{i}": i for i in range(6000)}}])

    def test_readers_never_see_a_table_empty_or_half_written(self, place: Place) -> None:
        loader = Loader(place, "replace")
        sizes = [3000, 2000]
        loader.load([{"id": i, "round": 0} for i in range(sizes[0])], batch=1000)
        place.do("create view wide as select id, round from things")
        seen: set[tuple[int, int]] = set()
        done = threading.Event()

        def read() -> None:
            while not done.is_set() and not place.readers_wait:
                seen.add(place.ask("select count(*), count(distinct round) from wide")[0])

        reader = threading.Thread(target=read)
        reader.start()
        for turn in range(1, 6):
            loader.load([{"id": i, "round": turn} for i in range(sizes[turn % 2])], batch=1000)
        done.set()
        reader.join()
        assert seen <= {(size, 1) for size in sizes}
        assert place.ask("select count(*) from wide") == [(2000,)]

    def test_an_empty_replace_empties_and_an_empty_merge_changes_nothing(self, place: Place) -> None:
        loader = Loader(place, "replace")
        loader.load([{"id": 1}])
        assert loader.load([])[0].removed == 1
        assert loader.ask("select count(*) from things") == [(0,)]
        loader = Loader(place, "upsert", table="others")
        loader.load([{"id": 1}], feed="second")
        (line,) = loader.load([], feed="second")
        assert (line.read, line.removed) == (0, 0)

    @pytest.mark.parametrize("made", ["create table things (id integer, mine text)", "create view things as select 1 as id"])
    def test_what_someone_else_made_is_left_alone(self, place: Place, made: str) -> None:
        loader = Loader(place)
        place.do(made)
        with pytest.raises(TableNotOwned, match="prefix"):
            loader.load([{"id": 1}])
        assert loader.ask("select count(*) from things") in ([(0,)], [(1,)])
        assert not columns_of(place, "_rb_ledger")

    def test_another_feeds_table_and_another_runs_commit(self, place: Place) -> None:
        loader = Loader(place)
        loader.load([{"id": 1}])
        with pytest.raises(TableNotOwned, match="the feed test writes"):
            loader.load([{"id": 2}], feed="other")

        with pytest.raises(CursorMoved, match="run again"):
            loader.load([{"id": 5}], hold=lambda: Loader(place).load([{"id": 2}]))  # another run is quicker
        assert loader.ask("select id from things order by id") == [(1,), (2,)]

    def test_a_failed_commit_leaves_nothing(self, place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
        loader = Loader(place)
        loader.load([{"id": 1, "v": 1}])
        held = "select id, v, _rb_ledger_line, _rb_loaded_at from things"
        before = loader.ask(held), loader.ask('select version, "load" from _rb_cursor')
        monkeypatch.setattr(LedgerLine, "reconciles", property(lambda _: False))
        with pytest.raises(NotReconciled):
            loader.load([{"id": 1, "v": 2}, {"id": 2, "v": 2, "new": "column"}])
        assert (loader.ask(held), loader.ask('select version, "load" from _rb_cursor')) == before
        # A column that commits by itself stays, and holds nothing.
        assert place.ddl_commits or "new" not in columns_of(place, "things")

    def test_reading_is_read_only_and_bounded(self, place: Place) -> None:
        empty = place.open()
        assert (empty.tables(), empty.ledger(), empty.state("f", "t")) == ([], [], None)
        with pytest.raises((NotFound, QueryRefused)):
            empty.query("select 1 from things", limit=1, seconds=1)
        empty.close()

        loader = Loader(place)
        loader.load([{"id": i} for i in range(30)])
        warehouse = place.open()
        shown = warehouse.rows("things", limit=10)
        assert (len(shown.rows), shown.truncated) == (10, True)
        assert warehouse.query("select count(*) as n from things", limit=5, seconds=5).rows == [(30,)]
        for sql in (
            "delete from things", "create table a (b int)", "attach database 'other.db' as o", "select 1; select 2",
            "vacuum into 'copy.db'", "selec", "", "set default_transaction_read_only = off", "commit",
            "select 1; commit; drop table things",
            "copy things to '/tmp/stolen.csv'", "create temp table x as select 1 as a",
        ):  # fmt: skip
            with pytest.raises(QueryRefused):
                warehouse.query(sql, limit=5, seconds=5)
        many = [f"t{number}" for number in range(9)]
        endless = f"""select count(*) from {", ".join(f"things as {t}" for t in many)}
                      where ({" + ".join(f"{t}.id" for t in many)}) % 7 = 3"""
        with pytest.raises(QueryRefused, match="took more than"):
            warehouse.query(endless, limit=5, seconds=0.2)
        with pytest.raises(NotFound, match="reed tables"):
            warehouse.rows("nothing", limit=1)
        (info,) = warehouse.tables()
        assert (info.name, info.rows, info.feed) == ("things", 30, "test")
        assert json.dumps(warehouse.ledger()[0].as_dict())
        assert [step.ok for step in warehouse.check()] == [True] * len(warehouse.check())
        warehouse.close()
        assert loader.ask("select count(*) from things") == [(30,)]

    def test_a_marked_row_comes_again_and_children_go_with_their_parents(self, place: Place) -> None:
        loader = Loader(place, "mirror", deletes="soft")
        loader.load([{"id": 1, "v": 1, "kids": [{"c": 1}]}, {"id": 2, "v": 1, "kids": [{"c": 2}]}])
        lines = {line.table: line for line in loader.load([{"id": 1, "v": 1, "kids": [{"c": 1}]}])}
        assert (lines["things"].removed, lines["things_kids"].removed) == (1, 1)
        assert loader.ask("select id from things where _rb_deleted_at is not null") == [(2,)]
        assert loader.ask("select c from things_kids where _rb_deleted_at is not null") == [(2,)]
        back = loader.load([{"id": 1, "v": 1, "kids": [{"c": 1}]}, {"id": 2, "v": 1, "kids": [{"c": 2}]}])
        assert (back[0].updated, back[0].unchanged) == (1, 1)
        assert loader.ask("select count(*) from things_kids where _rb_deleted_at is not null") == [(0,)]

    def test_a_rejected_record_has_not_gone_from_a_mirror(self, place: Place) -> None:
        loader = Loader(place, "mirror")
        loader.load([{"id": i} for i in range(4)])
        warehouse = place.open()
        load = warehouse.begin(
            LoadTarget(1, "test", "src", "things", "things", "mirror", ["id"], "key", "hard", True),
            warehouse.state("test", "things"),
        )
        shaper = Shaper(TableShape("things"), ["id"], "key")
        shaped = shaper.shape([{"id": 0}, {"id": 1}], 0)
        load.stage(shaped.family, shaped.batches)
        load.mark_present(TableBatch("things", 1, range(1), columns={"id": ("int64", [2])}))
        now = datetime.now(UTC)
        lines = load.commit(shaper.family, shaper.structure.to_data(), Position(None, None, 1, 0, 0, now), now)
        load.close()
        warehouse.close()
        assert (lines[0].removed, lines[0].unchanged, lines[0].rejected) == (1, 2, 1)
        assert place.ask("select id from things order by id") == [(0,), (1,), (2,)]

    def test_a_load_may_begin_with_a_page_of_nothing(self, place: Place) -> None:
        """An empty window, before any column is known."""
        warehouse = place.open()
        load = warehouse.begin(LoadTarget(1, "test", "src", "things", "things", "upsert", ["id"], "key"), None)
        shaper = Shaper(TableShape("things"), ["id"], "key")
        for records in ([], [{"id": 1, "kids": [{"c": 1}]}]):
            shaped = shaper.shape(records, 0)
            load.stage(shaped.family, shaped.batches)
        now = datetime.now(UTC)
        lines = load.commit(shaper.family, shaper.structure.to_data(), Position(None, None, 0, 0, 0, now), now)
        load.close()
        warehouse.close()
        assert [line.inserted for line in lines] == [1, 1]
        assert place.ask("select id, c from things t join things_kids k on k._rb_parent = t.id") == [(1, 1)]
