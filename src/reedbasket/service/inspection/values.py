"""Values of rows as JSON."""

from __future__ import annotations

import json
import math
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

# A browser's numbers are doubles: integers beyond this would be rounded on the way.
_EXACT_IN_BROWSERS = 2**53


def shown(value: Any) -> Any:
    """A value of a row, as JSON that a browser reads without loss."""
    if type(value) is int and abs(value) > _EXACT_IN_BROWSERS:
        return str(value)
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, float) and not math.isfinite(value):
        return "NaN" if value != value else "infinity" if value > 0 else "-infinity"
    if isinstance(value, datetime):  # as SQLite warehouses hold it, so that all look alike
        shown = value.astimezone(UTC) if value.tzinfo else value
        return shown.strftime("%Y-%m-%d %H:%M:%S.%f") + ("Z" if value.tzinfo else "")
    if isinstance(value, dict | list):
        return json.dumps(value, ensure_ascii=False, default=str)
    if isinstance(value, str | int | float | bool | None):
        return value
    return format(value, "f") if isinstance(value, Decimal) else str(value)
