"""Whose memory a worker's columns are, and what it costs to keep count of it."""

from __future__ import annotations

import ctypes

import pyarrow as pa

# For large pieces that live briefly. The C library's memory takes pages from the system anew for many of them, and copies one that is cut
# to size; with jemalloc's a block of CSV is parsed in seven eighths of the time, for 5 MB.
BRIEF = pa.jemalloc_memory_pool() if "jemalloc" in pa.supported_memory_backends() else pa.system_memory_pool()

# The C library's; of another than GNU's there is none, and what it keeps it keeps.
_TRIM = getattr(ctypes.CDLL(None), "malloc_trim", None)


def share_one_pool() -> None:
    """Columns out of the C library's own memory, as all else is. Arrow's keeps pages for each thread that made some: with four that
    read at once a worker takes 50 MB more, and is no faster."""
    pa.set_memory_pool(pa.system_memory_pool())


def give_back() -> None:
    """Before somebody else takes as much: what reading held lies in pieces that DuckDB's own allocator cannot use."""
    pa.default_memory_pool().release_unused()
    BRIEF.release_unused()
    if _TRIM is not None:
        _TRIM(0)
