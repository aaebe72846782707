"""Importing drivers in advance, and what Arrow loads on first use: else a process spends up to half a second on it in its first run."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress

import numpy as np
import pyarrow as pa

from ...kinds import SOURCES, WAREHOUSES, DriverMissing, SourceKind, WarehouseKind, load


def import_drivers(sources: Iterable[str], warehouses: Iterable[str]) -> None:
    """Import the drivers of databases among these kinds. Others are imported just as fast when they are needed.

    Args:
        sources: kinds of sources.
        warehouses: kinds of warehouses.
    """
    kinds: list[SourceKind | WarehouseKind] = [*map(SOURCES.get, sources), *map(WAREHOUSES.get, warehouses)]
    for module, extra in sorted({(kind.module, kind.extra) for kind in kinds}):
        with suppress(DriverMissing):  # the run that needs it says so
            load(module, extra)
    # With the first array of numpy's, and with the first function over arrays.
    pa.array(np.arange(1)).take(pa.array([0]))
