"""Loading: stage, then one transaction with rows, ledger and cursor.

May import: core.errors, core.spec, core.records, core.shaping. One package per engine; `warehouse.py` says what each must do.
"""

from ..records.ledger import LedgerLine
from ..records.position import SavedCursor
from .loading import Differences, Load, LoadTarget, Position
from .open import open_warehouse
from .warehouse import TableState, Warehouse

__all__ = [
    "Differences",
    "LedgerLine",
    "Load",
    "LoadTarget",
    "Position",
    "SavedCursor",
    "TableState",
    "Warehouse",
    "open_warehouse",
]
