"""Databases as sources: what they contain, and reading it in columns.

May import: core.errors, records, spec, shape. A database is only read, whatever its user may do.
"""

from .database import Database, DatabaseErrors
from .tables import Column, Statement, Table

__all__ = ["Column", "Database", "DatabaseErrors", "Statement", "Table"]
