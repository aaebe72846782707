"""SQL that people write sees the warehouse and nothing else, whoever carries it out."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import pytest

from reedbasket.contracts.place import columns_of
from reedbasket.core.runs import RunOutcome
from tests.support.feeds import run_once
from tests.support.warehouses import ENGINES, Place, server_for

OUTSIDE = {
    "sqlite": ["select readfile('{file}')", "select * from fsdir('/')"],
    "duckdb": ["select * from read_csv('{file}', header = false)", "select * from '{file}'", "select * from glob('/*')",
               "select * from sqlite_scan('{file}', 'token')", "select getenv('HOME')"],
    "postgres": [],
    "mysql": ["select 1 as a into outfile '{file}.out'", "select 1 as id /*! into outfile '{file}.out' */"],
}  # fmt: skip
SECOND = ["select 1 as a; create table stolen as select 2 as a", "select 1 as a; drop table counts",
          "select 1 as a; attach '{file}' as other", "select 1 as a; copy counts to '{file}.out'"]  # fmt: skip


@pytest.mark.parametrize("what", ["table", "view"])
@pytest.mark.parametrize("engine", ENGINES)
def test_what_stands_on_a_table_is_one_query_over_the_warehouse(
    tmp_path: Path, request: pytest.FixtureRequest, engine: str, what: str
) -> None:
    place = Place(engine, tmp_path, server_for(engine, request))
    secret = tmp_path / "secret.csv"
    secret.write_text("planted\n")
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.csv").write_text("id,n\n1,2\n")

    def run(number: int, query: str) -> Any:
        clean = f'derived: {{{what}: kept, query: "{query.format(file=secret)}"}}'
        text = f"source: test\ntype: files\npath: in\n---\nwarehouse: marsh\n{place.as_yaml}\n---\nfeed: test\nfrom: test\ninto: marsh\n"
        changes = "changes: {by: full}, write: replace"
        return run_once(f"{text}tables: [{{table: counts, files: '*.csv', {changes}, {clean}}}]\n", tmp_path, run=number)[0]

    os.utime(tmp_path / "in" / "a.csv", (1_780_000_000, 1_780_000_000))
    tried = [*OUTSIDE[engine], *SECOND]
    for number, query in enumerate(tried, 1):
        result = run(number, query)
        assert result.outcome is RunOutcome.FAILED and result.error is not None, query
        assert result.error["code"] == "warehouse.derived_refused", (query, result.error)
        assert place.ask("select id, n from counts") == [(1, 2)]
        assert columns_of(place, "kept") == {} and columns_of(place, "stolen") == {}
    assert not Path(f"{secret}.out").exists()
    # And one that is right, twice: what was shut in loads again.
    for number in (50, 51):
        assert run(number, f"select id, n * {number} as n from counts").outcome is RunOutcome.SUCCEEDED
        assert place.ask("select n from kept") == [(2 * number,)]
