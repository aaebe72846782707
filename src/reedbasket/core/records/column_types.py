"""The types of columns, and which widening keeps every value.

bool     true, false int64    -2^63 ... 2^63-1 double   IEEE 754; integers up to 2^53 in the same column stay exact decimal  exact numbers
of any size text     Unicode date     a day timestamp  an instant, UTC, microseconds json     any JSON value, as text binary   bytes uuid
128 bits, RFC 9562
"""

from __future__ import annotations

from typing import Any, Literal, TypeAlias

import pyarrow as pa

Kind = Literal["bool", "int64", "double", "decimal", "text", "date", "timestamp", "json", "binary", "uuid"]

# Integers a double holds exactly: IEEE 754 binary64 has 53 bits of significand.
EXACT_IN_DOUBLE = 2**53

# The lattice: what a column may become without losing a value, {from: kinds, nearest first}.
#   int64 -> double (while exact) -> decimal -> text      date -> timestamp -> text      uuid -> text
#   and json where values of different nature are mixed: flags, objects, lists.
WIDER: dict[Kind, tuple[Kind, ...]] = {
    "bool": ("json",),
    "int64": ("double", "decimal", "text", "json"),
    "double": ("decimal", "text", "json"),
    "decimal": ("text", "json"),
    "date": ("timestamp", "text", "json"),
    "timestamp": ("text", "json"),
    "uuid": ("text", "json"),
    "text": ("json",),
    "json": (),
    "binary": (),
}


def widen(now: Kind, met: Kind) -> Kind | None:
    """The narrowest type that holds both; None if there is none, which is so only for binary."""
    if now == met:
        return now
    mine, others = (now, *WIDER[now]), (met, *WIDER[met])
    return next((kind for kind in mine if kind in others), None)


# A typed column: a list of Python values (None, bool, int, float, Decimal, str), or an Arrow array; date and timestamp
# always are one (date32, timestamp[us, UTC]).
ColumnData: TypeAlias = list[Any] | pa.Array


# What all our engines hold as an exact number: Arrow's decimal256. Longer ones become text.
MOST_DIGITS = 76
