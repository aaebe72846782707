"""Limits on how much may be lost: a number, or a share like `50%`."""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import BeforeValidator, WithJsonSchema

# A share says nothing of a handful: so many are always within it.
ALWAYS_WITHIN = 10
HALF = "50%"


def _parse(value: Any) -> Any:
    if isinstance(value, str) and re.fullmatch(r"\d{1,3}%", value) and int(value[:-1]) <= 100:
        return value
    if type(value) is int and value >= 0:
        return value
    raise ValueError(f"found {value!r}; write a number, or a share like 50%")


Limit = Annotated[
    int | str,
    BeforeValidator(_parse),
    WithJsonSchema({"anyOf": [{"type": "integer", "minimum": 0}, {"type": "string", "pattern": r"^\d{1,3}%$"}]}),
]


def exceeds(limit: int | str, count: int, of: int) -> bool:
    """Whether this count is above the limit. A share is only exceeded by more than 10."""
    if isinstance(limit, int):
        return count > limit
    return count > ALWAYS_WITHIN and count * 100 > of * int(limit[:-1])
