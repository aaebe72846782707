"""Loading: stage, then one transaction with rows, ledger and cursor.

May import: core.errors, core.spec.model, core.shape. One package per engine; `warehouse.py` says what each must do.
"""

from .ledger import LedgerLine
from .open import open_warehouse
from .warehouse import Differences, Load, LoadTarget, Position, SavedCursor, TableState, Warehouse

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
