"""Drivers imported ahead, and what Arrow loads when first used: the first run of a process would else spend up to half a second on that."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress

import numpy as np
import pyarrow as pa

from ...kinds import SOURCES, WAREHOUSES, DriverMissing, SourceKind, WarehouseKind, load


def import_drivers(sources: Iterable[str], warehouses: Iterable[str]) -> None:
    """sources, warehouses: their kinds. Those that are no database's are imported as quickly when they are needed."""
    kinds: list[SourceKind | WarehouseKind] = [*map(SOURCES.get, sources), *map(WAREHOUSES.get, warehouses)]
    for module, extra in sorted({(kind.module, kind.extra) for kind in kinds}):
        with suppress(DriverMissing):  # the run that needs it says so
            load(module, extra)
    # With the first array of numpy's, and with the first function over arrays.
    pa.array(np.arange(1)).take(pa.array([0]))
