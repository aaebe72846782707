"""The service's own records, in SQLite: definitions, secrets, runs, ledger copy, rejects, access, pace.

May import: core, wire. Knows no Flask. One module a subject; SQL stands beside the function that runs it.
"""

from .database import Store

__all__ = ["Store"]
