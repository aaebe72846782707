"""Which allocator a worker's columns use."""

from __future__ import annotations

import ctypes

import pyarrow as pa

# For large pieces that live briefly. The C library's memory takes pages from the system anew for many of them, and copies one that is cut
# to size; with jemalloc's a block of CSV is parsed in seven eighths of the time, for 5 MB.
BRIEF = pa.jemalloc_memory_pool() if "jemalloc" in pa.supported_memory_backends() else pa.system_memory_pool()

# The C library's; of another than GNU's there is none, and what it keeps it keeps.
_TRIM = getattr(ctypes.CDLL(None), "malloc_trim", None)


def share_one_pool() -> None:
    """Let Arrow use the C library's memory like everything else. Arrow's own allocator keeps pages for each thread: with four that read at
    once, a worker takes 50 MB more, and is no faster.
    """
    pa.set_memory_pool(pa.system_memory_pool())


def give_back() -> None:
    """Return free memory to the system before DuckDB, whose allocator cannot use what reading has left in pieces, takes as much."""
    pa.default_memory_pool().release_unused()
    BRIEF.release_unused()
    if _TRIM is not None:
        _TRIM(0)
