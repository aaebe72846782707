"""One column of raw values: its type, and the values in that type.

Raw values are what a JSON parser produces: None, bool, int, float, Decimal, str, list, dict.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Context, Decimal
from math import isfinite
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..records.column_types import EXACT_IN_DOUBLE, MOST_DIGITS, ColumnData, Kind, widen
from ..records.exact_json import dump

_DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
_TIMESTAMP = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d{1,6})?(Z|[+-]\d{2}:?\d{2})")
_SMALLEST, _LARGEST = -(2**63), 2**63 - 1
_TEMPORAL: dict[Kind, pa.DataType] = {"date": pa.date32(), "timestamp": pa.timestamp("us", "UTC")}
_NONE = type(None)
_EXACT, _ONE = Context(prec=1000, Emax=999_999, Emin=-999_999), Decimal(1)
_NUMBERS = {int, float, Decimal}


@dataclass(frozen=True)
class BadValue:
    """Why the value at `index` cannot go into its column."""

    index: int
    code: str
    message: str


def infer(values: Sequence[Any]) -> Kind | None:
    """The type of a new column; None if every value is null.

    Mixed values become text if all are text or numbers, otherwise json: nothing is lost either way.
    """
    types = set(map(type, values))
    types.discard(_NONE)
    if not types:
        return None
    if types == {bool}:
        return "bool"
    if types <= _NUMBERS:
        return _number_kind(values, types)
    if types == {str}:
        return _text_kind(values)
    if types <= {int, float, Decimal, str}:
        return "text"
    return "json"


def _number_kind(values: Sequence[Any], types: set[type]) -> Kind:
    if Decimal in types:
        return "decimal" if _fits_decimal(values) else "text"
    if types == {float}:
        return "double"
    low, high = _bounds(values, types)
    if types == {int}:
        if low >= _SMALLEST and high <= _LARGEST:
            return "int64"
    elif low >= -EXACT_IN_DOUBLE and high <= EXACT_IN_DOUBLE:
        return "double"
    return "decimal" if _fits_decimal(values) else "text"


def _fits_decimal(values: Sequence[Any]) -> bool:
    if any(type(v) is float and not isfinite(v) for v in values):
        return False  # NaN and infinity have no digits
    whole, fraction = digits([plain_decimal(v) for v in values if v is not None])
    return whole + fraction <= MOST_DIGITS


def _text_kind(values: Sequence[Any]) -> Kind:
    first = next(v for v in values if v is not None)
    tried: tuple[Kind, ...] = ()
    if _TIMESTAMP.fullmatch(first):
        tried = ("timestamp",)
    elif _DATE.fullmatch(first):
        tried = ("date", "timestamp")
    for kind in tried:
        try:
            temporal(values, kind)
            return kind
        except (pa.ArrowInvalid, UnicodeEncodeError):
            pass
    return "text"


def temporal(values: ColumnData | Sequence[Any], kind: Kind) -> pa.Array:
    """Dates or times from text. A date in a column of timestamps is its first instant in UTC.

    Raises:
        ArrowInvalid: a text is not one.
    """
    text = values if isinstance(values, pa.Array) else pa.array(values, pa.string())
    try:
        return text.cast(_TEMPORAL[kind])
    except pa.ArrowInvalid:
        days = pc.match_substring_regex(text, f"^{_DATE.pattern}$") if kind == "timestamp" else None
        if days is None or not pc.any(days).as_py():
            raise
        return pc.if_else(days, pc.binary_join_element_wise(text, "T00:00:00Z", ""), text).cast(_TEMPORAL[kind])


def fit(values: list[Any], kind: Kind, *, wider: bool, suspicious: bool = False) -> tuple[Kind, ColumnData, list[BadValue]]:
    """The values as a column of `kind`, or, if `wider`, of a wider type: (the type now, data, misfits).

    Misfits leave None in their place; the caller drops their records, or leaves them out.

    Args:
        suspicious: the text was parsed leniently, so lone surrogates are possible and looked for.
    """
    types = set(map(type, values))
    types.discard(_NONE)
    if not types:
        return kind, values, []
    if types == {str} and kind == "text":
        return _check_unicode(values) if suspicious else (kind, values, [])
    now = kind
    if not _all_fit(values, types, kind):
        if not wider:
            return _one_by_one(values, kind, suspicious)
        met = _met(values, types, kind)
        joined = widen(kind, met) if met else None
        if joined is None:
            return _one_by_one(values, kind, suspicious)
        now = joined
        if now == "decimal" and not _fits_decimal(values):
            now = "text"
    data, misfits = _as_kind(values, types, now, suspicious)
    return now, data, misfits


def _all_fit(values: list[Any], types: set[type], kind: Kind) -> bool:
    if kind == "json":
        return True
    if kind == "bool":
        return types == {bool}
    if kind == "text":
        return types <= {str, int, float, Decimal}
    if kind in ("date", "timestamp"):
        if types != {str}:
            return False
        try:
            temporal(values, kind)
            return True
        except (pa.ArrowInvalid, UnicodeEncodeError):
            return False
    if not types <= _NUMBERS:
        return False
    if kind == "int64":
        return types == {int} and _number_kind(values, types) == "int64"
    if kind == "double":
        if types == {float}:
            return True
        return Decimal not in types and all(-EXACT_IN_DOUBLE <= b <= EXACT_IN_DOUBLE for b in _bounds(values, types))
    return kind == "decimal" and _fits_decimal(values)


def _met(values: list[Any], types: set[type], kind: Kind) -> Kind | None:
    """The kind of values that are not of `kind`, as far as the lattice wants to know."""
    if kind == "date" and types == {str}:
        try:
            temporal(values, "timestamp")
            return "timestamp"
        except (pa.ArrowInvalid, UnicodeEncodeError):
            return "text"
    if kind in ("date", "timestamp", "uuid") and types <= {str, int, float, Decimal}:
        return "text"
    met = infer(values)
    if kind == "text" and met in ("date", "timestamp"):
        return "text"
    if kind in ("int64", "double", "decimal") and met in ("date", "timestamp"):
        return "text"
    if kind == "double" and met == "int64":
        return "decimal"  # whole numbers beyond what a double holds exactly
    return met


def _as_kind(values: list[Any], types: set[type], kind: Kind, suspicious: bool) -> tuple[ColumnData, list[BadValue]]:
    """Values that are known to fit."""
    if kind == "json":
        return _as_json(values, suspicious)
    if kind in ("date", "timestamp"):
        return temporal(values, kind), []
    if kind == "decimal":
        return [None if v is None else plain_decimal(v) for v in values], []
    if kind == "text":
        texts = values if types == {str} else as_text(values)
        if suspicious:
            _, data, misfits = _check_unicode(texts)
            return data, misfits
        return texts, []
    return values, []


def as_text(values: list[Any]) -> list[Any]:
    """Numbers in a text column, as text without losing a digit."""
    return [v if v is None or type(v) is str else _number_text(v) for v in values]


def _number_text(value: Any) -> str:
    return repr(value) if type(value) is float else str(value)


def plain_decimal(value: Any) -> Decimal:
    """Exact, without an exponent and trailing zeros, so that equal numbers are equal texts."""
    made = value if type(value) is Decimal else Decimal(_number_text(value))
    if not made:
        return Decimal(0)
    if abs(made.adjusted()) > 4 * MOST_DIGITS:  # not worth a million zeros: it will be text
        return made
    plain = made.normalize(_EXACT)
    return plain.quantize(_ONE, context=_EXACT) if plain.as_tuple().exponent > 0 else plain  # type: ignore[operator]


def digits(values: Sequence[Any]) -> tuple[int, int]:
    """The most digits before and after the point of decimals made by `plain_decimal`; ignores None."""
    whole = fraction = 0
    for value in values:
        if value is not None:
            whole = max(whole, value.adjusted() + 1)
            fraction = max(fraction, -value.as_tuple().exponent)
    return whole, fraction


def _bounds(values: Sequence[Any], types: set[type]) -> tuple[int, int]:
    """The smallest and the largest integer. A column of nothing else, the usual case, is not copied."""
    whole = values if types == {int} and None not in values else [v for v in values if type(v) is int]
    return min(whole), max(whole)


def _as_json(values: list[Any], suspicious: bool) -> tuple[ColumnData, list[BadValue]]:
    """suspicious: NaN and infinity are possible too, which JSON cannot say."""
    out: list[Any] = []
    misfits: list[BadValue] = []
    for index, value in enumerate(values):
        try:
            # Keys in order, so that equal objects are equal texts.
            if suspicious and not _has_numbers_of_json(value):
                out.append(None)
                misfits.append(
                    BadValue(
                        index, "value.not_json", "NaN or infinity inside a value that is stored as JSON, which has neither"
                    )
                )
                continue
            out.append(None if value is None else dump(value, sort_keys=True))
        except ValueError as error:
            out.append(None)
            misfits.append(BadValue(index, "value.not_unicode", str(error)))
    return out, misfits


def _has_numbers_of_json(value: Any) -> bool:
    if isinstance(value, dict | list):
        return all(map(_has_numbers_of_json, value.values() if isinstance(value, dict) else value))
    return type(value) is not float or isfinite(value)


def _check_unicode(values: list[Any]) -> tuple[Kind, ColumnData, list[BadValue]]:
    misfits = []
    for index, value in enumerate(values):
        try:
            if value is not None:
                value.encode()
        except UnicodeEncodeError:
            misfits.append(BadValue(index, "value.not_unicode", "text with half of a surrogate pair is not valid Unicode"))
    bad = {m.index for m in misfits}
    return "text", [None if i in bad else v for i, v in enumerate(values)] if bad else values, misfits


def _one_by_one(values: list[Any], kind: Kind, suspicious: bool) -> tuple[Kind, ColumnData, list[BadValue]]:
    """Only for columns with a value that does not fit: find which, keep the rest."""
    kept: list[Any] = []
    misfits: list[BadValue] = []
    for index, value in enumerate(values):
        if value is None or _all_fit([value], {type(value)}, kind):
            kept.append(value)
        else:
            kept.append(None)
            misfits.append(BadValue(index, "value.wrong_type", f"{shown(value)} does not fit a column of type {kind}"))
    types = set(map(type, kept)) - {_NONE}
    data, more = _as_kind(kept, types, kind, suspicious) if types else (kept, [])
    return kind, data, misfits + more


def shown(value: Any) -> str:
    """A value in a message: its type, and its beginning."""
    kinds = {str: "text", bool: "the flag", int: "the number", float: "the number", dict: "an object", list: "a list"}
    what = kinds.get(type(value), "the number")
    if isinstance(value, dict | list):
        return what
    text = repr(value) if isinstance(value, str) else str(value)
    return f"{what} {text[:60]}"
