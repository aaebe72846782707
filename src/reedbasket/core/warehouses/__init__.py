"""Loading into warehouses: rows are staged, then committed in one transaction with ledger and cursor.

May import: core.errors, core.spec, core.records, core.shaping. There is one package for each engine; `warehouse.py` says what each has to
provide.
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
