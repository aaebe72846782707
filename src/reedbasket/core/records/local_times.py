"""Times without a zone, in the zone of their source."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc


def in_utc(local: Any, zone: str) -> Any:
    """The instants that local times mean, the same for every kind of source.

    Of an hour that occurs twice, the first is meant. A time in an hour that is skipped is read with the offset before it, like
    PostgreSQL and Python's zoneinfo do: 02:30 in the night when 02:00 becomes 03:00 is 03:30.

    Args:
        local: a pyarrow array of timestamps without a zone.
        zone: an IANA name.

    Returns:
        The array as timestamps in UTC, of the same unit.
    """
    in_unit = pa.timestamp(local.type.unit, "UTC")
    if zone == "UTC":
        return local.cast(in_unit)
    made = pc.assume_timezone(local, zone, ambiguous="earliest", nonexistent="latest").cast(in_unit)
    left_out = pc.fill_null(pc.not_equal(_shown(made, zone), local), False)
    if not pc.any(left_out).as_py():
        return made
    before = pc.assume_timezone(local, zone, ambiguous="earliest", nonexistent="earliest").cast(in_unit)
    offset = pc.subtract(_shown(before, zone).cast(pa.int64()), before.cast(pa.int64()))
    return pc.if_else(left_out, pc.subtract(local.cast(pa.int64()), offset).cast(in_unit), made)


def _shown(instants: Any, zone: str) -> Any:
    return pc.local_timestamp(instants.cast(pa.timestamp(instants.type.unit, zone)))
