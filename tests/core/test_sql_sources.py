"""Databases as sources: a real PostgreSQL and SQLite files, into a SQLite warehouse."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.inspection.database_look import survey_database
from reedbasket.core.runs.inspection.setup_sql import setup_sql
from reedbasket.core.sources.sql.bound_values import names_in, replaced
from reedbasket.core.spec import load_texts
from tests.support.dock import MARSH, Dock
from tests.support.feeds import Heard, order_for, run_context_for, run_once, table_rows


def rows(folder: Path, table: str, *columns: str) -> list[tuple[Any, ...]]:
    return [tuple(row[c] for c in columns) for row in table_rows(folder, table)]


TYPES: list[tuple[str, str, Any]] = [
    ("bool", "true", 1),
    ("int2", "-3", -3),
    ("int8", "9007199254740993", 9007199254740993),
    ("float4", "0.1", 0.1),
    ("float8", "1e300", 1e300),
    ("numeric", "12345678901234567890.12345", "12345678901234567890.12345"),
    ("numeric(12,3)", "1.250", "1.25"),
    ("money", "'12.50'", "12.5"),
    ("text", "'ø\n'", "ø\n"),
    ("bytea", r"'\x0102'", b"\x01\x02"),
    ("uuid", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
    ("date", "'2026-03-02'", "2026-03-02"),
    ("timestamp", "'2026-07-02 06:00:00.5'", "2026-07-02 04:00:00.500000Z"),
    ("timestamptz", "'2026-03-02 06:00+02'", "2026-03-02 04:00:00.000000Z"),
    ("time", "'24:00:00'", "24:00:00"),
    ("interval", "'1 day 2 hours'", "P1DT2H"),
    ("jsonb", """'{"b": [1, 2]}'""", '{"b": [1, 2]}'),
    ("int[]", "'{1,NULL}'", "[1,null]"),
    ("int4range", "'[1,5)'", "[1,5)"),
    ("kind", "'open'", "open"),
    ("weight", "3.5", "3.5"),
    ("pair", "row(1, 'z')", '{"a":1,"b":"z"}'),
    ("inet", "'10.0.0.0/8'", "10.0.0.0/8"),
    ("bit(3)", "'101'", "101"),
    ("point", "'(1,2)'", "(1,2)"),
    ("oid", "4294967295", 4294967295),
]


def test_every_type_has_its_place(dock: Dock, tmp_path: Path) -> None:
    dock.do("create type kind as enum ('open'); create domain weight as numeric(8, 2); create type pair as (a int, b text)")
    columns = ", ".join(f"c{n} {kind}" for n, (kind, _, _) in enumerate(TYPES))
    dock.do(f"create table things (id int primary key, {columns})")
    dock.do(f"insert into things values (1, {', '.join(value for _, value, _ in TYPES)})")
    dock.do("insert into things (id) values (2)")
    dock.do("insert into things (id, c11) values (3, 'infinity'), (4, '0044-03-15 BC')")
    text = dock.basket("tables: [things]", "time_zone: Europe/Paris")
    result, heard = run_once(text, tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    found = {row["id"]: row for row in table_rows(tmp_path, "things")}
    assert [found[1][f"c{n}"] for n in range(len(TYPES))] == [wanted for _, _, wanted in TYPES]
    assert {found[2][f"c{n}"] for n in range(len(TYPES))} == {None}
    assert [(r.code, r.record["id"]) for r in heard.rejected] == [("value.out_of_range", 3), ("value.out_of_range", 4)]
    _, heard = run_once(text, tmp_path, run=2)
    assert [(line.unchanged, line.updated, line.inserted) for line in heard.ledger] == [(2, 0, 0)]
    _, heard = run_once(dock.basket("tables: [{table: things, cast: {c11: text}}]"), tmp_path, run=3)
    assert heard.rejected == []
    assert ("infinity",) in rows(tmp_path, "things", "c11")


def test_many_tables_by_patterns_and_odd_names(dock: Dock, tmp_path: Path) -> None:
    long = "a" * 62
    for name in ("plain", "Select", 'with "quotes"', "with spaces", long + "x", long + "y", "tmp_1"):
        quoted = '"' + name.replace('"', '""') + '"'
        dock.do(f'create table {quoted} ("Order" int primary key, "größe (cm)" text)')
        dock.do(f"insert into {quoted} values (1, %s)", name)
    dock.do("create table parted (id int primary key, n int) partition by range (id)")
    dock.do("create table parted_1 partition of parted for values from (0) to (10)")
    dock.do("insert into parted values (1, 1)")
    dock.do("create view seen as select * from plain; create table bare (n int); insert into bare values (1), (1)")
    feed = (
        'write: mirror\ntables:\n  - {table: "*", exclude: [tmp_*, seen, bare]}\n  - {table: bare, write: replace}\n  - gone\n'
    )
    order = order_for(dock.basket(feed))
    granted = [
        one.sql for one in setup_sql(order, run_context_for(order, tmp_path), [order]) if one.sql.startswith("GRANT SELECT")
    ]
    assert len(granted) == 8 and all(f'"{dock.schema}".' in sql for sql in granted)
    result, _ = run_once(dock.basket(feed), tmp_path)
    problem = next(t for t in result.tables if t.phase == "failed")
    assert (problem.table, problem.error and problem.error["code"]) == ("gone", "definition.unknown_table")
    done = {t.table: t.target for t in result.tables if t.phase == "done"}
    assert set(done) == {"plain", "Select", 'with "quotes"', "with spaces", long + "x", long + "y", "parted", "bare"}
    assert len(set(done.values())) == len(done) and all(len(target) <= 63 for target in done.values())
    for name in set(done) - {"parted", "bare"}:
        assert rows(tmp_path, done[name], "order", "grosse_cm") == [(1, name)]
    assert rows(tmp_path, "parted", "id") == [(1,)]
    assert rows(tmp_path, "bare", "n") == [(1,), (1,)]
    dock.do("create table later (id int primary key)")
    ignoring, stopping = (dock.basket(f"on_drift: {{new_table: {what}}}\n{feed}") for what in ("ignore", "fail"))
    result, heard = run_once(ignoring, tmp_path, run=2)
    assert [t.table for t in result.tables if t.phase == "skipped"] == ["later"] and [c.table for c in heard.drifted] == [
        "later"
    ]
    result, _ = run_once(stopping, tmp_path, run=3)
    assert {t.table: t.error["code"] for t in result.tables if t.error}["later"] == "drift.failed"
    result, _ = run_once(dock.basket(feed), tmp_path, run=4)
    assert next(t for t in result.tables if t.table == "later").phase == "done"


def test_a_cursor_takes_what_changed_and_misses_what_overlap_does_not_cover(dock: Dock, tmp_path: Path) -> None:
    """A transaction that is open while a run looks commits rows older than the cursor: an overlap as long as it lasts brings them."""
    dock.do("create table orders (id int primary key, at timestamptz, note text)")
    feeds = {
        over: dock.basket(f"tables: [{{table: orders, changes: {{by: cursor, column: at, overlap: {over}}}}}]")
        for over in ("0s", "10m")
    }
    places = {over: tmp_path / over for over in feeds}
    for place in places.values():
        place.mkdir()
    assert "cursor.no_index" in run_once(feeds["0s"], tmp_path)[1].codes()
    dock.do("create index on orders (at)")
    began = datetime.now(UTC) - timedelta(hours=1)
    dock.do("insert into orders select n, %s + n * interval '1 second', 'a' from generate_series(1, 1000) n", began)
    late = dock.cluster.connect(autocommit=False, options=f"-c search_path={dock.schema}")
    late.execute("insert into orders values (2000, %s, 'late')", (began + timedelta(seconds=900),))
    for over, text in feeds.items():
        assert "cursor.no_index" not in run_once(text, places[over])[1].codes()
    late.commit()
    late.close()
    found = {over: run_once(text, places[over], run=2)[0].tables[0] for over, text in feeds.items()}
    assert (found["0s"].inserted, found["10m"].inserted) == (0, 1)
    dock.do("update orders set note = 'b', at = now() where id in (3, 4)")
    found = {over: run_once(text, places[over], run=3)[0].tables[0] for over, text in feeds.items()}
    assert [found[over].inserted + found[over].updated for over in ("0s", "10m")] == [2, 2]
    assert [len(rows(place, "orders", "id")) for place in places.values()] == [1000, 1001]
    assert [run_once(text, places[over], run=4)[0].tables[0].inserted for over, text in feeds.items()] == [0, 0]


def test_a_cursor_of_several_columns_stands_at_the_greatest(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table orders (id int primary key, made timestamptz, changed timestamptz)")
    dock.do("insert into orders values (1, '2026-03-01', null), (2, '2026-03-02', '2026-03-05'), (3, null, null)")
    text = dock.basket("tables: [{table: orders, changes: {by: cursor, column: [made, changed]}}]")
    first = run_once(text, tmp_path)[0].tables[0]
    assert (first.inserted, first.cursor_to) == (3, "2026-03-05T00:00:00Z")
    dock.do("insert into orders values (4, '2026-03-06', null); update orders set changed = '2026-03-07' where id = 1")
    dock.do("insert into orders values (5, '2026-03-03', '2026-03-04')")  # below the cursor, and so not seen
    second = run_once(text, tmp_path, run=2)[0].tables[0]
    assert second.cursor_to == "2026-03-07T00:00:00Z"
    assert sorted(rows(tmp_path, "orders", "id")) == [(1,), (2,), (3,), (4,)]
    assert (1, "2026-03-07 00:00:00.000000Z") in rows(tmp_path, "orders", "id", "changed")


def test_row_versions_miss_no_late_commit(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table orders (id int primary key, n int); insert into orders select n, 0 from generate_series(1, 500) n")
    text = dock.basket("tables: [{table: orders, changes: {by: row_version}}]")
    late = dock.cluster.connect(autocommit=False, options=f"-c search_path={dock.schema}")
    late.execute("update orders set n = 1 where id = 7")
    late.execute("savepoint inner_one; insert into orders values (501, 1); release inner_one")
    dock.do("update orders set n = 2 where id = 8")
    assert run_once(text, tmp_path)[0].tables[0].inserted == 500
    late.commit()
    second, heard = run_once(text, tmp_path, run=2)
    assert {line.inserted + line.updated for line in heard.ledger} == {2}
    assert {(7, 1), (8, 2), (501, 1)} <= set(rows(tmp_path, "orders", "id", "n"))
    assert second.tables[0].read < 10
    third, _ = run_once(text, tmp_path, run=3)
    assert third.tables[0].read == 0
    late.close()


def test_one_snapshot_for_all_tables(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table a (id int primary key); create table b (id int primary key)")
    dock.do("insert into a values (1); insert into b values (1)")

    class Meddling(Heard):
        def loaded(self, lines: Any, warehouse: str = "") -> None:
            super().loaded(lines)
            if lines[0].source_table == "a":
                dock.do("insert into b values (2); delete from b where id = 1")

    text = dock.basket("tables: [a, b]")
    run_once(text, tmp_path, heard=Meddling())
    assert rows(tmp_path, "b", "id") == [(1,)]
    assert (
        run_once(text.replace("[a, b]", "[a, {table: b, write: mirror}]"), tmp_path, run=2)[0].outcome is RunOutcome.SUCCEEDED
    )
    assert rows(tmp_path, "b", "id") == [(2,)]


def test_compare_windows_queries_and_pushed_down_rules(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table parts (no text primary key, price numeric(8, 2), secret text, at timestamptz)")
    dock.do(
        "insert into parts select 'P' || n, n, 'x', timestamptz '2026-03-01' + n * interval '1 hour' from generate_series(1, 72) n"
    )
    feed = """tables:
  - {table: parts, changes: {by: compare}, exclude_columns: secret, source_filter: "price > 2 and at >= :settings_since",
     compute: {twice: price * 2}}
  - table: parts
    as: daily
    changes: {by: window, column: at, from: 2026-03-01, length: 1d}
  - table: dear
    query: |
      select price, count(*)::int as parts -- :not_a_name
      from parts where at >= :cursor_from and no <> ':nor this' group by price
    changes: {by: cursor, column: price}
    primary_key: price
"""
    (tmp_path / "bad").mkdir()
    started = datetime(2026, 3, 6, tzinfo=UTC)
    failed, _ = run_once(dock.basket(feed, "settings: {since: 2026-03-01}"), tmp_path / "bad", started=started)
    assert {t.table: t.error["code"] for t in failed.tables if t.error} == {"dear": "source.query_failed"}
    text = dock.basket(feed.replace("at >= :cursor_from", "price >= :cursor_from"), "settings: {since: 2026-03-01}")
    result, heard = run_once(text, tmp_path, started=started)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    found = {t.table: t for t in result.tables}
    assert (found["parts"].read, found["daily"].requests, found["dear"].read) == (70, 5, 72)
    (first, *_) = [r.url for r in heard.requests if '"price" > ' in r.url or "price > 2" in r.url]
    assert "secret" not in first and "since" in first
    assert "secret" not in table_rows(tmp_path, "parts")[0] and ("P3", "6") in rows(tmp_path, "parts", "no", "twice")
    dock.do("update parts set price = 99 where no = 'P3'; delete from parts where no = 'P4'; update parts set secret = 'y'")
    again, _ = run_once(text, tmp_path, run=2, started=started)
    counts = {t.table: (t.read, t.unchanged, t.inserted + t.updated) for t in again.tables}
    assert counts["parts"] == (69, 68, 1)
    # P72 stands at the cursor, and is known; P3 is dearer now.
    assert (counts["daily"][0], counts["dear"]) == (0, (1, 0, 1))
    assert len(table_rows(tmp_path, "parts")) == 69


def test_a_survey_of_600_tables(dock: Dock, tmp_path: Path) -> None:
    dock.do(
        "; ".join(f"create table t{n} (id bigint primary key, name text not null, updated_at timestamptz)" for n in range(600))
    )
    dock.do("create index on t7 (updated_at); comment on table t7 is 'the seventh'")
    order = order_for(dock.basket("tables: [t1]"))
    found = survey_database(order, run_context_for(order, tmp_path), [f"{dock.schema}.*"], ["t1?"])
    assert len(found) == 590
    seventh = next(table for table in found if table.table == "t7")
    assert (seventh.description, seventh.key, seventh.cursors) == ("the seventh", ["id"], ["updated_at", "id"])
    assert seventh.indexed == ["id", "updated_at"]
    assert [method.by for method in seventh.methods] == ["cursor", "cdc", "row_version", "compare", "full"]


def test_sqlite_whose_values_are_not_what_was_declared(tmp_path: Path) -> None:
    source = sqlite3.connect(tmp_path / "dock.db")
    source.executescript(
        """create table things (id integer primary key, flag boolean, at datetime, day date, cost decimal(8, 2), any, blob blob);
           insert into things values (1, 1, '2026-03-02 06:00:00', '2026-03-02', 1.50, 'x', x'0102'),
                                     (2, 0, '2026-03-02T07:00:00Z', null, 2, 7, null);
           create table stamped (id integer primary key, at text); create index stamped_at on stamped (at);
           insert into stamped select value, '2026-03-02T06:00:0' || value || 'Z' from json_each('[1, 2, 3]');"""
    )
    text = f"""source: test
type: sqlite
path: dock.db
time_zone: Europe/Paris
---
{MARSH}tables:
  - things
  - {{table: stamped, changes: {{by: cursor, column: at}}, write: append}}
"""
    assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    first = {
        "id": 1,
        "flag": 1,
        "at": "2026-03-02 05:00:00.000000Z",
        "day": "2026-03-02",
        "cost": "1.5",
        "any": "x",
        "blob": b"\1\2",
    }
    second = {"id": 2, "flag": 0, "at": "2026-03-02 07:00:00.000000Z", "day": None, "cost": "2", "any": "7", "blob": None}
    assert sorted(table_rows(tmp_path, "things"), key=lambda row: row["id"]) == [first, second]
    source.executescript(
        "insert into things (id, cost) values (3, 'dear'); insert into stamped values (4, '2026-03-02T06:00:03Z')"
    )
    source.commit()
    _, heard = run_once(text, tmp_path, run=2)
    assert [change.words for change in heard.drifted] == ["column things.cost widened from decimal to text"]
    assert (3, "dear") in rows(tmp_path, "things", "id", "cost")
    assert sorted(rows(tmp_path, "stamped", "id")) == [(1,), (2,), (3,), (4,)]
    source.close()


def test_names_in_sql_are_found_outside_of_texts() -> None:
    text = """select a::int, ':no', "x:no", $q$ :no $q$, E'\\':no' -- :no
      /* :no */ from t where x = :cursor_from and y<:window_until"""
    assert names_in(text) == ["cursor_from", "window_until"]
    assert replaced("a = :a and b = :b::text", lambda name: f"<{name}>") == "a = <a> and b = <b>::text"


@pytest.mark.parametrize(
    ("feed", "wrong"),
    [
        ("tables: [{table: b, as: a, query: select 1}]", "give either `table` or `query`"),
        ("tables: [{table: a, exclude: [b]}]", "is for patterns"),
        ("tables: [{table: a, changes: {by: row_version}}]", "sqlite has no row versions"),
        ("tables: [{table: a, changes: {by: compare, column: x}}]", "by: compare does not have column"),
        ("tables: [{table: a, nesting: {lists: json}}]", "no nested records"),
    ],
)
def test_mistakes_are_found_before_anything_is_opened(feed: str, wrong: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"b.yaml": f"source: test\ntype: sqlite\npath: x.db\n---\n{MARSH}{feed}"})
    assert wrong in repr(caught.value.details)
