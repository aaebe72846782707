"""The service's own records, in SQLite: definitions, secrets, runs, a copy of the ledger, rejects, access, pace.

May import: core, wire. Knows no Flask. There is a module for each subject; SQL is next to the function that executes it.
"""

from .database import Store

__all__ = ["Store"]
