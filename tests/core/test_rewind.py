"""A cursor moved back: the part behind it is read once more, nothing is doubled, and a load that was going on is refused."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import Conflict, CursorMoved, DefinitionError
from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.checkpoints.rewind import rewound
from reedbasket.core.warehouses import open_warehouse
from tests.support.feeds import basket_text, order_for, run_once
from tests.support.source import Changing, serving
from tests.support.warehouses import Cluster, Place

RECORDS = [{"id": f"T{n:02d}", "updated_at": f"2026-03-{n + 1:02d}T00:00:00Z"} for n in range(20)]


@pytest.mark.parametrize("engine", ["sqlite", "duckdb", "postgres"])
def test_what_lies_behind_a_value_is_read_once_more(tmp_path: Path, engine: str, cluster: Cluster) -> None:
    place = Place(engine, tmp_path, cluster)
    with serving(Changing(list(RECORDS))) as source:
        text = basket_text(source.url, warehouse=place.as_yaml)

        def read(number: int) -> tuple[int, int]:
            result, heard = run_once(text, tmp_path, run=number)
            assert result.outcome is RunOutcome.SUCCEEDED, result.error
            lines = [line for line in heard.ledger if line.table == "things"]
            return sum(line.read for line in lines), sum(line.unchanged for line in lines)

        assert read(1) == (20, 0)
        warehouse = open_warehouse(order_for(text).warehouse, Places.anywhere(tmp_path), lambda _: "")
        state = warehouse.state("test", "things")
        was, now = rewound("test", "things", state, "upsert", "2026-03-16")
        assert was.value.startswith("2026-03-20") and now is not None
        assert warehouse.rewind("test", "things", now.value) and not warehouse.rewind("test", "nothing", None)
        warehouse.close()
        assert read(2) == (5, 5)
        warehouse = open_warehouse(order_for(text).warehouse, Places.anywhere(tmp_path), lambda _: "")
        assert warehouse.rewind("test", "things", None)
        warehouse.close()
        assert read(3) == (20, 20)
    assert place.ask("select count(*) from things") == [(20,)]


def test_a_load_that_began_before_it_is_refused(tmp_path: Path) -> None:
    moved = False

    class Meddler(Changing):
        def __call__(self, request: Any) -> Any:
            nonlocal moved
            if moved:
                warehouse = open_warehouse(order_for(text).warehouse, Places.anywhere(tmp_path), lambda _: "")
                warehouse.rewind("test", "things", None)
                warehouse.close()
            return super().__call__(request)

    with serving(Meddler([*RECORDS])) as source:
        text = basket_text(source.url)
        run_once(text, tmp_path)
        source.handler.records = [*RECORDS, {"id": "late", "updated_at": "2026-04-01T00:00:00Z"}]  # type: ignore[attr-defined]
        moved = True
        result, _ = run_once(text, tmp_path, run=2)
        assert result.error is not None and result.error["code"] == CursorMoved.code
        moved = False
        result, heard = run_once(text, tmp_path, run=3)
        assert result.outcome is RunOutcome.SUCCEEDED and heard.ledger[0].read == 21


def test_what_cannot_be_moved_back_is_told(tmp_path: Path) -> None:
    with serving(Changing(list(RECORDS))) as source:
        text = basket_text(source.url)
        run_once(text, tmp_path)
        warehouse = open_warehouse(order_for(text).warehouse, Places.anywhere(tmp_path), lambda _: "")
        state = warehouse.state("test", "things")
        warehouse.close()
    for write, to, kind, code in (
        ("append", None, Conflict, "cursor.would_duplicate"), ("upsert", "2027-01-01", DefinitionError, "cursor.not_earlier"),
        ("upsert", "last week", DefinitionError, "cursor.bad_value"),
    ):  # fmt: skip
        with pytest.raises(kind) as told:
            rewound("test", "things", state, write, to)
        assert told.value.code == code
    with pytest.raises(Conflict) as none:
        rewound("test", "things", None, "upsert", None)
    assert none.value.code == "cursor.none_saved"
