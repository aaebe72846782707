"""Memory that was taken and is free again, given back to the system."""

from __future__ import annotations

import ctypes

import pyarrow as pa

# The C library's; of another than GNU's there is none, and what it keeps it keeps.
_TRIM = getattr(ctypes.CDLL(None), "malloc_trim", None)


def give_back() -> None:
    """Before somebody else takes as much: what reading held lies in pieces that DuckDB's own allocator cannot use."""
    pa.default_memory_pool().release_unused()
    if _TRIM is not None:
        _TRIM(0)
