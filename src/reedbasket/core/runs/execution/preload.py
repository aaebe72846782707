"""Drivers imported ahead, and what Arrow loads when first used: the first run of a process would else spend up to half a second on that."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module

import numpy as np
import pyarrow as pa

from ...kinds import SOURCES, WAREHOUSES


def import_drivers(sources: Iterable[str], warehouses: Iterable[str]) -> None:
    """sources, warehouses: their kinds. Those that are no database's are imported as quickly when they are needed."""
    named = [SOURCES.get(kind).module for kind in sources] + [WAREHOUSES.get(kind).module for kind in warehouses]
    for module in sorted(set(named)):
        import_module(module)
    # With the first array of numpy's, and with the first function over arrays.
    pa.array(np.arange(1)).take(pa.array([0]))
