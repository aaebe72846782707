"""Shape: from parsed records to columns for warehouse tables: names, types, nesting.

May import: core.errors. No connection, no file. Works on whole columns; a single value is looked at only where its column
does not fit.
"""

from ..records.layout import Family
from ..records.structure import ColumnShape, TableShape
from .batch import Reject, Shaped, TableBatch
from .rules import Change, DriftPolicy, ShapeRules
from .shaper import Shaper

__all__ = [
    "Change",
    "ColumnShape",
    "DriftPolicy",
    "Family",
    "Reject",
    "ShapeRules",
    "Shaped",
    "Shaper",
    "TableBatch",
    "TableShape",
]
