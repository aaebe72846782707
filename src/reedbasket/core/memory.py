"""Whose memory a worker's columns are, and what it costs to keep count of it."""

from __future__ import annotations

import ctypes
import sqlite3  # noqa: F401  # which brings the library that is told below
import sys

import pyarrow as pa

# For large pieces that live briefly. The C library's memory takes pages from the system anew for many of them, and copies one that is cut
# to size; with jemalloc's a block of CSV is parsed in seven eighths of the time, for 5 MB.
BRIEF = pa.jemalloc_memory_pool() if "jemalloc" in pa.supported_memory_backends() else pa.system_memory_pool()

# The C library's; of another than GNU's there is none, and what it keeps it keeps.
_TRIM = getattr(ctypes.CDLL(None), "malloc_trim", None)

_SQLITE_MEMSTATUS = 9


def share_one_pool() -> None:
    """Columns out of the C library's own memory, as all else is. Arrow's keeps pages for each thread that made some: with four that
    read at once a worker takes 50 MB more, and is no faster."""
    pa.set_memory_pool(pa.system_memory_pool())


def leave_sqlite_uncounted() -> None:
    """SQLite counts all memory that it takes, under a lock, twice for each text that it is handed: a tenth of a load into a SQLite
    file goes there, and nobody asks for the count. Only before the process opens its first connection.

    Source: https://sqlite.org/c3ref/c_config_covering_index_scan.html (SQLITE_CONFIG_MEMSTATUS)
    """
    place = getattr(sys.modules["_sqlite3"], "__file__", None)
    library = ctypes.CDLL(place) if place else None
    if library is None or not hasattr(library, "sqlite3_config"):  # built into Python, and not to be reached
        return
    library.sqlite3_shutdown()
    library.sqlite3_config(_SQLITE_MEMSTATUS, ctypes.c_int(0))
    library.sqlite3_initialize()


def give_back() -> None:
    """Before somebody else takes as much: what reading held lies in pieces that DuckDB's own allocator cannot use."""
    pa.default_memory_pool().release_unused()
    BRIEF.release_unused()
    if _TRIM is not None:
        _TRIM(0)
