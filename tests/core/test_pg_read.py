"""Rows of PostgreSQL in columns, whatever they hold and however they end."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import SourceError
from reedbasket.core.sources.sql import Database, Statement
from reedbasket.core.sources.sql.open import open_database
from reedbasket.core.spec.source import Source
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
        {"source": "dock", "type": "postgres", "schema": dock.schema, "tls": {"mode": "disable"}, **place}
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


def test_values_come_as_another_driver_tells_them(dock: Dock) -> None:
    dock.do(MADE)
    found = read(dock, "select {} from mixed order by n")
    found.validate(full=True)
    for name, as_text in [("large", "large::text"), ("words", "words"), ("doc", "doc::text"), ("bare", "bare::text")]:
        texts = [value for (value,) in dock.do(f"select {as_text} from mixed order by n").fetchall()]
        assert found.column(name).cast(pa.string()).to_pylist() == texts, name
    for name in ("price", "whole", "tiny", "minus", "edge", "even", "bytes", "nothing", "no_price", "small"):
        values = [value for (value,) in dock.do(f"select {name} from mixed order by n").fetchall()]
        assert found.column(name).to_pylist() == values, name
    plain = [value for (value,) in dock.do("select moment from mixed where n <= 5000 order by n").fetchall()]
    assert found.column("moment")[:5000].to_pylist() == plain
    # Beyond all years of ours they are not rounded to one within.
    odd = found.column("moment")[5000:5003].cast(pa.int64()).to_pylist()
    assert abs(odd[0]) > 10**17 and abs(odd[1]) > 10**17 and odd[2] > 10**17
    assert str(found.column("root")[5000].as_py()) == "nan" and found.column("root")[5001].as_py() == float("-inf")


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
