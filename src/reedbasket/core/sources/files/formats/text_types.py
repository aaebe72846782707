"""The types of text columns: inferred once from the text, and then kept. Nothing is guessed that would change a value: `007` stays text,
`0.10` is an exact number, and what no longer fits is reported.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ....records.arrow import DIGITS_OF_128
from ....records.column_types import Kind, widen
from ....records.local_times import in_utc
from ....records.structure import ColumnShape, TableShape
from ....shaping.typed_columns import typed_field

WHOLE = r"-?(0|[1-9][0-9]*)"
_DECIMAL = WHOLE + r"(\.[0-9]+)?"
_DOUBLE = WHOLE + r"(\.[0-9]+)?([eE][+-]?[0-9]{1,3})?"
_DAY = r"[0-9]{4}-[0-9]{2}-[0-9]{2}"
_CLOCK = r"[T ][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?"
_ZONE = r"(Z|[+-][0-9]{2}(:?[0-9]{2})?)"
NUMBERS = ("int64", "double", "decimal")
_FLAGS = ("true", "false", "True", "False", "TRUE", "FALSE")
TRUE, FALSE = ["true", "True", "TRUE"], ["false", "False", "FALSE"]


@dataclass(frozen=True)
class TextKind:
    """The type of a text column.

    Attributes:
        zoned: for times, whether each has a zone; None if that is not known yet.
        whole, fraction: for decimals, digits before and after the point.
    """

    kind: Kind
    zoned: bool | None = None
    whole: int = 0
    fraction: int = 0

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type in which it is read."""
        if self.kind == "decimal":
            return pa.decimal128(DIGITS_OF_128, self.fraction)
        if self.kind == "timestamp":
            return pa.timestamp("us", "UTC") if self.zoned else pa.timestamp("us")
        types = {"bool": pa.bool_(), "int64": pa.int64(), "double": pa.float64(), "date": pa.date32()}
        return types.get(self.kind, pa.string())


def known_columns_of(structure: TableShape | None) -> dict[str, TextKind]:
    """The types of a table's columns from earlier loads, by field name."""
    fields = structure.root.fields.items() if structure else ()
    return {
        name: TextKind(node.kind, None, node.whole, node.fraction)
        for name, node in fields
        if isinstance(node, ColumnShape) and not (node.kind == "decimal" and node.whole + node.fraction > DIGITS_OF_128)
    }


def wider(one: TextKind, other: TextKind) -> TextKind:
    """The type that holds the values of both."""
    kind = widen(one.kind, other.kind) or "text"
    if kind == "json" or (kind == "timestamp" and {one.kind, other.kind} != {"timestamp"}):
        return TextKind("text")
    whole, fraction = max(one.whole, other.whole), max(one.fraction, other.fraction)
    if kind == "decimal" and "int64" in (one.kind, other.kind):
        whole = max(whole, 19)
    if kind == "decimal" and ("double" in (one.kind, other.kind) or whole + fraction > DIGITS_OF_128):
        return TextKind("text")
    return TextKind(kind, one.zoned if one.zoned == other.zoned else None, whole, fraction)


def infer(texts: pa.Array | pa.ChunkedArray) -> TextKind | None:
    """The type of these texts; None if all are null."""
    values = texts.drop_null()
    if not len(values):
        return None
    first = values[0].as_py()
    if re.fullmatch(_DOUBLE, first) or first in ("NaN", "nan"):
        return _number(values)
    if re.fullmatch(_DAY, first) and _all(values, _DAY) and _casts(values, pa.date32()):
        return TextKind("date")
    if re.fullmatch(_DAY + _CLOCK, first) and _all(values, _DAY + _CLOCK) and _casts(values, pa.timestamp("us")):
        return TextKind("timestamp", zoned=False)
    if re.fullmatch(_DAY + _CLOCK + _ZONE, first) and _all(values, _DAY + _CLOCK + _ZONE):
        return TextKind("timestamp", zoned=True) if _casts(values, pa.timestamp("us", "UTC")) else TextKind("text")
    if first in _FLAGS and pc.all(pc.is_in(values, pa.array(_FLAGS))).as_py():
        return TextKind("bool")
    return TextKind("text")


def _number(values: Any) -> TextKind:
    if _all(values, WHOLE):
        longest = pc.max(pc.utf8_length(values)).as_py()
        if longest <= 18 or _casts(values, pa.int64()):
            return TextKind("int64")
        return TextKind("decimal", None, longest, 0) if longest <= DIGITS_OF_128 else TextKind("text")
    if _all(values, _DECIMAL):
        place = pc.find_substring(values, ".")
        length = pc.utf8_length(values)
        fraction = pc.max(pc.if_else(pc.greater_equal(place, 0), pc.subtract(pc.subtract(length, place), 1), 0)).as_py()
        whole = pc.max(pc.if_else(pc.greater_equal(place, 0), place, length)).as_py()
        return TextKind("decimal", None, whole, fraction) if whole + fraction <= DIGITS_OF_128 else TextKind("text")
    # Of a column that holds nothing else, nobody knows that its `nan` is a number.
    if _all(values, rf"({_DOUBLE}|NaN|nan)") and not _all(values, "(NaN|nan)"):
        return TextKind("double")
    return TextKind("text")


def _all(values: Any, pattern: str) -> bool:
    return pc.all(pc.match_substring_regex(values, f"^{pattern}$")).as_py() is True


def _casts(values: Any, wanted: pa.DataType) -> bool:
    try:
        values.cast(wanted)
    except pa.ArrowInvalid:
        return False
    return True


def made(texts: Any, known: TextKind) -> Any | None:
    """A text column in its type; None if a value is not of that type."""
    values = texts.drop_null()
    return as_inferred(texts, known) if not len(values) or _look_like(values, known.kind) else None


def _look_like(values: Any, kind: Kind) -> bool:
    """What casts would take beside what we do."""
    if kind == "bool":
        return pc.all(pc.is_in(values, pa.array(_FLAGS))).as_py() is True
    pattern = {"int64": WHOLE, "decimal": _DECIMAL}.get(kind)
    return pattern is None or _all(values, pattern)


def as_inferred(values: Any, known: TextKind) -> Any | None:
    """The same, if every value is known to look right."""
    if known.kind in ("text", "json", "uuid", "binary"):
        return values
    if known.kind == "bool":
        return pc.utf8_lower(values).cast(pa.bool_())
    zones = (known.zoned,) if known.zoned is not None or known.kind != "timestamp" else (True, False)
    for zoned in zones:
        try:
            return values.cast(replace(known, zoned=zoned).arrow)
        except pa.ArrowInvalid:
            continue
    return None


def finished(name: str, values: Any, known: TextKind | None, zone: str) -> tuple[pa.Field, Any]:
    """A column as shape.typed needs it.

    Args:
        zone: of times without one.
    """
    if known is None:
        return typed_field(name, "null", values)
    if known.kind == "timestamp" and values.type.tz is None:
        utc = in_utc(values, zone).cast(pa.timestamp("us", "UTC"))
        return typed_field(name, "timestamp", utc)
    if known.kind == "decimal":
        return typed_field(name, "decimal", values, _whole_digits(values, known), known.fraction)
    kind: Any = known.kind if known.kind not in ("json", "uuid", "binary") else "text"
    return typed_field(name, kind, values)


def _whole_digits(values: pa.ChunkedArray, known: TextKind) -> int:
    most = max((_greatest(chunk) for chunk in values.chunks), default=0)
    # In steps, so that blocks of one column are of one type.
    return -(-max(known.whole, len(str(most))) // 9) * 9


def _greatest(values: pa.Array) -> int:
    """Of decimals: whole, and without their signs."""
    if len(values) and not values.null_count:
        # Small ones are 64 bits of number and 64 of its sign, and compared as such in less than half the time.
        halves = np.frombuffer(values.buffers()[1], np.int64).reshape(-1, 2)[values.offset : values.offset + len(values)]
        low = halves[:, 0]
        if (halves[:, 1] == low >> 63).all():
            return int(max(abs(int(low.min())), abs(int(low.max()))) // 10**values.type.scale)
    return max((abs(int(one)) for one in pc.min_max(values).as_py().values() if one is not None), default=0)


def one_by_one(texts: Sequence[str | None], known: TextKind | None, zone: str) -> list[Any]:
    """Values as they would be in JSON: in their type if they are of it, otherwise as text."""
    if known is None or known.kind not in ("bool", "int64", "double", "decimal", "timestamp"):
        return list(texts)
    return [None if text is None else _one(text, known.kind, zone) for text in texts]


def _one(text: str, kind: Kind, zone: str) -> Any:
    if kind == "bool":
        return text.lower() == "true" if text in _FLAGS else text
    if kind == "timestamp":
        if not re.fullmatch(_DAY + _CLOCK + f"({_ZONE})?", text):
            return text
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            return text
        return (moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(zone))).isoformat()
    if re.fullmatch(WHOLE, text):
        return int(text)
    if not re.fullmatch(_DOUBLE, text):
        return text
    return float(text) if kind == "double" else Decimal(text)


def numbers(texts: pa.ChunkedArray, known: TextKind, mark: str) -> Any | None:
    """A text column as numbers; None if a value begins with a zero followed by a digit or an x: parsers accept such values, but they are
    not numbers.

    Args:
        mark: the decimal mark.

    Raises:
        ArrowInvalid: a value is not a number.
    """
    if mark != ".":
        if pc.any(pc.match_substring(texts, ".")).as_py():
            return None
        texts = pc.replace_substring(texts, mark, ".")
    if any(map(_goes_on_behind_zero, texts.chunks)):
        return None
    try:
        return texts.cast(known.arrow)
    except pa.ArrowInvalid:
        # Spaces around a number that is known to be one do not count; where there are none, the same is raised once more.
        trimmed = pc.ascii_trim_whitespace(texts)
        return None if any(map(_goes_on_behind_zero, trimmed.chunks)) else trimmed.cast(known.arrow)


def _goes_on_behind_zero(texts: pa.Array) -> bool:
    # By the letters themselves: a quarter of what looking through them with a pattern takes.
    _, offsets, data = texts.buffers()
    if not len(texts) or not data or not data.size:
        return False
    places = np.frombuffer(offsets, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    begins, ends, letters = places[:-1], places[1:], np.frombuffer(data, np.uint8)
    # What stands where an empty one begins is the next one's, which is found all the same.
    first = letters.take(begins, mode="clip")
    # Signs and zeros: all other digits are greater.
    few = np.flatnonzero(first <= ord("0"))
    if not len(few):
        return False
    signed, plain = few[first[few] == ord("-")], few[first[few] == ord("0")]
    signed = signed[letters.take(begins[signed] + 1, mode="clip") == ord("0")]
    for which, behind in ((plain, begins[plain] + 1), (signed, begins[signed] + 2)):
        found = letters[behind[behind < ends[which]]]
        if ((found >= ord("0")) & (found <= ord("9")) | (found == ord("x")) | (found == ord("X"))).any():
            return True
    return False
