"""The contract of warehouses over every kind, a toy's among them."""

from __future__ import annotations

import pytest

from reedbasket.contracts.warehouse import WarehouseContract
from reedbasket.core.errors import NotReconciled
from reedbasket.core.warehouses import LedgerLine


class TestEveryWarehouse(WarehouseContract):
    """By the fixture `place`."""


def test_a_ledger_that_does_not_add_up_stops_the_load() -> None:
    line = LedgerLine(
        load=1, run=1, feed="f", source="s", source_table="t", table="t", write="upsert", read=5, staged=5, inserted=4, updated=0,
        deleted=0, unchanged=0, superseded=0, rejected=0, removed=0, repeated=0, cursor_from=None, cursor_to=None,
        source_bytes=0, started="", ended="",
    )  # fmt: skip
    assert not line.reconciles
    with pytest.raises(NotReconciled, match="read 5, but inserted 4"):
        line.require_reconciled()
