"""Shape: from parsed records to columns for warehouse tables: names, types, nesting.

May import: core.errors. No connection, no file. Works on whole columns; a single value is looked at only where its column
does not fit.
"""

from .shaper import Reject, Shaped, Shaper
from .structure import ColumnShape, TableShape

__all__ = ["ColumnShape", "Reject", "Shaped", "Shaper", "TableShape"]
