"""Rows read off PostgreSQL's socket: the same as the driver's, whatever they hold and however they end."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import SourceError
from reedbasket.core.sources.postgres import database, readers
from reedbasket.core.sources.sql import Database, Statement
from reedbasket.core.sources.sql.open import open_database
from reedbasket.core.spec.model import Source
from tests.support.dock import Dock

MADE = """
create table mixed as select n, case when n % 7 = 0 then null else n::int2 end as small, n::int8 * 4294967311 as large,
  case when n % 3 = 0 then null else (n - 2500) * 1234.567 end::numeric(14, 3) as price, (n % 2 = 0) as even,
  (n * 100000000000000.5)::numeric(18, 0) as whole, (n / 1e9)::numeric(18, 18) as tiny, (-n)::numeric(9, 2) as minus,
  case n % 4 when 0 then 0 when 1 then 0.01 when 2 then 10000 else 99999999.99 end::numeric(10, 2) as edge,
  sqrt(n) as root, date '1999-12-01' + n as day, timestamptz '1969-12-31 23:00+00' + n * interval '7.000001 seconds' as moment,
  case when n % 5 > 0 then repeat('ø', n % 50) end as words, decode(lpad(to_hex(n), 8, '0'), 'hex') as bytes,
  n::text::numeric as bare, null::text as nothing, null::int4 as no_number, null::numeric(4, 1) as no_price,
  json_build_object('n', n) as doc
from generate_series(1, 5000) n;
insert into mixed (n, day, moment, root) values (5001, '5874897-12-31', '-infinity', 'NaN'), (5002, '-infinity', 'infinity', '-infinity'),
  (5003, '4713-01-01 BC', '200000-12-31', 0), (5004, null, null, null);
insert into mixed (n, words) values (5005, repeat('x', 9000000)), (5006, ''), (5007, repeat('y', 3000000));
"""


Asked = tuple[Database, Callable[..., Statement]]


@contextmanager
def opened(dock: Dock) -> Iterator[Asked]:
    """(the source, makes a statement of a text over the table `mixed`, with {} for its columns, and of their names)."""
    place: dict[str, Any] = {"host": "127.0.0.1", "port": dock.cluster.port, "database": "postgres", "user": "boss"}
    source = Source.model_validate(
        {"source": "dock", "on": "postgres", "schema": dock.schema, "tls": {"mode": "disable"}, **place}
    )
    with closing(open_database(source, None, Places.anywhere(Path("/")), threading.Event())) as found:
        table = next(table for table in found.tables() if (table.schema, table.name) == (dock.schema, "mixed"))

        def statement(text: str, *columns: str) -> Statement:
            chosen = tuple(column for column in table.columns if not columns or column.name in columns)
            made = ", ".join(f"{column.select.format(column.name)} as {column.name}" for column in chosen)
            return Statement(text.format(made or "1"), chosen)

        yield found, statement


def parts(dock: Dock, text: str, *columns: str) -> list[pa.Table]:
    with opened(dock) as (source, statement):
        return list(source.read(statement(text, *columns)))


def read(dock: Dock, text: str, *columns: str) -> pa.Table:
    return pa.concat_tables(parts(dock, text, *columns))


def comparable(values: pa.ChunkedArray) -> pa.ChunkedArray:
    """NaN equals nothing, and of times beyond all years it matters only that they are."""
    if pa.types.is_timestamp(values.type):
        micros = values.cast(pa.int64())
        return pc.if_else(pc.less(pc.abs_checked(pc.divide(micros, 2)), 10**17 * 2), micros, 0)
    return values.cast(pa.string()) if pa.types.is_floating(values.type) else values


TEXTS = [
    "select {} from mixed order by n",
    "select {} from mixed where n between 5001 and 5004 order by n",
    "select {} from mixed where n > 5004 order by n desc",
    "select {} from mixed where n % 7 = 0 and n % 3 = 0 order by n",
]


def test_what_comes_off_the_socket_is_what_the_driver_brings(dock: Dock, monkeypatch: pytest.MonkeyPatch) -> None:
    dock.do(MADE)
    ours = [read(dock, text) for text in TEXTS]
    monkeypatch.setattr(database, "may_stream", lambda _: False)
    for text, mine in zip(TEXTS, ours):
        theirs = read(dock, text)
        assert mine.schema.equals(theirs.schema, check_metadata=True)
        for name in mine.column_names:
            assert comparable(mine.column(name)).equals(comparable(theirs.column(name))), name
        mine.validate(full=True)
    assert ours[0].num_rows == 5007 and ours[0].column("price").null_count == 1666 + 7


def test_a_number_that_is_none_makes_its_batch_text(dock: Dock) -> None:
    dock.do(
        "create table mixed (n int, price numeric(8, 3)); insert into mixed values (1, 'NaN'), (2, -12.5), (3, null), (4, 0.001)"
    )
    assert read(dock, "select {} from mixed order by n").column("price").to_pylist() == ["NaN", "-12.500", None, "0.001"]
    assert read(dock, "select {} from mixed where n > 1 order by n", "price").column(0).type == pa.decimal128(8, 3)


def test_no_rows_no_columns_and_an_error_in_the_middle(dock: Dock) -> None:
    dock.do(
        "create table mixed (n int primary key, words text); insert into mixed select n, repeat('x', 90) from generate_series(1, 90000) n"
    )
    assert parts(dock, "select {} from mixed where n < 0") == []
    assert read(dock, "select {} from mixed", "none of them").num_rows == 90_000
    with pytest.raises(SourceError) as error:
        read(dock, "select 1 / (n - 80000) as n from mixed order by n limit 85000", "n")
    assert (error.value.code, error.value.found) == ("source.query_failed", "division by zero")


def sign_ins(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """1, 2, … for each of ours from now on."""
    found, connect = list[int](), psycopg.connect

    def connects(*given: Any, **named: Any) -> Any:
        found.append(len(found) + 1)
        return connect(*given, **named)

    monkeypatch.setattr(psycopg, "connect", connects)
    return found


def test_the_next_statement_is_under_way_before_the_last_one_has_ended(dock: Dock, monkeypatch: pytest.MonkeyPatch) -> None:
    dock.do(MADE)
    # Answers of one batch and of many, of rows larger than a batch, of few rows, and of none.
    texts = [TEXTS[0], TEXTS[1], TEXTS[0], TEXTS[2], "select {} from mixed where n < 0", TEXTS[0], TEXTS[0], TEXTS[3]]
    alone = {text: parts(dock, text) for text in texts}
    signed_in = sign_ins(monkeypatch)
    fails = "select {} from mixed where 1 / (n - 4990) < 2 order by n"
    with opened(dock) as (source, statement):
        made = [statement(text) for text in texts]
        asked: list[Statement] = []
        for place, text in enumerate(texts):
            rest = iter(made[place + 1 : place + 2])

            def following(rest: Iterator[Statement] = rest) -> Statement | None:
                asked.extend(found := list(rest))
                return found[0] if found else None

            found = list(source.read(made[place], following))
            columns = [
                [pa.concat_tables(come).column(name) for name in come[0].column_names] if come else []
                for come in (found, alone[text])
            ]
            assert all(comparable(one).equals(comparable(other)) for one, other in zip(*columns, strict=True)), text
        # All but those behind an answer that was there at once; and all by one connection, beside that of the snapshot.
        assert asked == [made[n] for n in (1, 3, 4, 6, 7)] and signed_in == [1, 2]
        # What fails is told to who reads it; those before and behind it come whole.
        whole = sum(len(part) for part in alone[TEXTS[0]])
        assert sum(len(part) for part in source.read(statement(TEXTS[0]), lambda: statement(fails))) == whole
        with pytest.raises(SourceError, match="division by zero"):
            list(source.read(statement(fails), lambda: statement(TEXTS[0])))
        assert sum(len(part) for part in source.read(statement(TEXTS[0]))) == whole and signed_in == [1, 2, 3]


def test_a_kept_connection_hears_the_server_and_is_not_kept_for_long(dock: Dock, monkeypatch: pytest.MonkeyPatch) -> None:
    dock.do("create table mixed as select generate_series(1, 20000) as n")
    says = "begin if n % 997 = 0 then raise notice 'd%', repeat('d', n); end if; return true; end"
    dock.do(f"create function {dock.schema}.told(n int) returns bool language plpgsql as $$ {says} $$")
    signed_in = sign_ins(monkeypatch)
    with opened(dock) as (source, statement):
        # It speaks between two rows, and, of a setting that changes, ahead of the end.
        many = statement(f"select {{}} from mixed where {dock.schema}.told(n)")
        few = statement("select {} from mixed where n < 9 and set_config('timezone', 'Asia/Tokyo', false) <> ''")

        def read(wanted: Statement, *following: Any) -> list[int]:
            return [n for part in source.read(wanted, *following) for n in part.column(0).to_pylist()]

        for last in (few, many):
            assert read(many, lambda last=last: last) == list(range(1, 20_001))
            assert read(last) == list(range(1, 9 if last is few else 20_001)) and signed_in == [1, 2]
        monkeypatch.setattr(readers, "_KEPT_SECONDS", 0.0)
        assert len(read(few)) == 8 and signed_in == [1, 2, 3]
