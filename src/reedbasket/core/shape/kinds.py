"""The types of columns, and which widening keeps every value.

bool     true, false
int64    -2^63 ... 2^63-1
double   IEEE 754; integers up to 2^53 beside it stay exact
decimal  exact numbers of any size
text     Unicode
date     a day
timestamp  an instant, UTC, microseconds
json     any JSON value, as text
binary   bytes
"""

from __future__ import annotations

from typing import Literal

Kind = Literal["bool", "int64", "double", "decimal", "text", "date", "timestamp", "json", "binary"]

# Integers a double holds exactly: IEEE 754 binary64 has 53 bits of significand.
EXACT_IN_DOUBLE = 2**53

# What a column may become without losing a value: {(from, to)}. Anything else is a misfit, and a reject.
_WIDER: set[tuple[str, str]] = {("int64", "double"), ("int64", "decimal"), ("double", "decimal")}


def widen(now: Kind, met: Kind) -> Kind | None:
    """The kind that holds both, or None where there is none without changing values."""
    if now == met:
        return now
    if (now, met) in _WIDER:
        return met
    if (met, now) in _WIDER:
        return now
    return None
