"""From parsed records to columns for warehouse tables: names, types, nesting.

May import: core.errors. No connection, no file. It works on whole columns, and looks at a single value only if its column does not fit.
"""

from ..records.layout import Family
from ..records.structure import ColumnShape, TableShape
from .batch import Reject, ShapedBatch, TableBatch
from .rules import Change, DriftPolicy, ShapeRules
from .shaper import Shaper

__all__ = [
    "Change",
    "ColumnShape",
    "DriftPolicy",
    "Family",
    "Reject",
    "ShapeRules",
    "ShapedBatch",
    "Shaper",
    "TableBatch",
    "TableShape",
]
