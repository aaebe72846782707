"""One column of raw values: which kind it is, and the values as that kind.

Raw values are what a JSON parser makes: None, bool, int, float, Decimal, str, list, dict.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, TypeAlias

import pyarrow as pa

from .exact_json import dump
from .kinds import EXACT_IN_DOUBLE, Kind, widen

# A typed column: a list of Python values (None, bool, int, float, Decimal, str), or for date and timestamp an Arrow array
# (date32, timestamp[us, UTC]).
ColumnData: TypeAlias = list[Any] | pa.Array

_DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
_TIMESTAMP = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d{1,6})?(Z|[+-]\d{2}:?\d{2})")
_SMALLEST, _LARGEST = -(2**63), 2**63 - 1
_TEMPORAL: dict[Kind, pa.DataType] = {"date": pa.date32(), "timestamp": pa.timestamp("us", "UTC")}
_NONE = type(None)


@dataclass(frozen=True)
class Misfit:
    """Why the value at `index` cannot go into its column."""

    index: int
    code: str
    message: str


def infer(values: Sequence[Any]) -> Kind | None:
    """The kind of a column met for the first time; None where every value is null.

    Mixed values become text where all are text or numbers, else json: nothing is lost by either.
    """
    types = set(map(type, values))
    types.discard(_NONE)
    if not types:
        return None
    if types == {bool}:
        return "bool"
    if types <= {int, float, Decimal}:
        return _number_kind(values, types)
    if types == {str}:
        return _text_kind(values)
    if types <= {int, float, Decimal, str}:
        return "text"
    return "json"


def _number_kind(values: Sequence[Any], types: set[type]) -> Kind:
    if Decimal in types:
        return "decimal"
    if types == {float}:
        return "double"
    low, high = _bounds(values, types)
    if types == {int}:
        return "int64" if low >= _SMALLEST and high <= _LARGEST else "decimal"
    return "double" if low >= -EXACT_IN_DOUBLE and high <= EXACT_IN_DOUBLE else "decimal"


def _text_kind(values: Sequence[Any]) -> Kind:
    first = next(v for v in values if v is not None)
    patterns: tuple[tuple[re.Pattern[str], Kind], ...] = ((_TIMESTAMP, "timestamp"), (_DATE, "date"))
    for pattern, kind in patterns:
        if pattern.fullmatch(first):
            try:
                _temporal(values, kind)
                return kind
            except (pa.ArrowInvalid, UnicodeEncodeError):
                return "text"
    return "text"


def _temporal(values: Sequence[Any], kind: Kind) -> pa.Array:
    return pa.array(values, pa.string()).cast(_TEMPORAL[kind])


def fit(values: list[Any], kind: Kind, *, suspicious: bool = False) -> tuple[Kind, ColumnData, list[Misfit]]:
    """The values as a column of `kind`, or of a wider kind that loses nothing: (kind now, data, misfits).

    Misfits leave None in their place; the caller drops their records. suspicious: the text came through the lenient
    parser, so lone surrogates are possible and looked for.
    """
    types = set(map(type, values))
    types.discard(_NONE)
    if not types:
        return kind, values, []
    if types == {str} and kind in ("date", "timestamp"):
        try:
            return kind, _temporal(values, kind), []
        except (pa.ArrowInvalid, UnicodeEncodeError):
            return _one_by_one(values, kind)
    if types == {str} and kind == "text":
        return _check_unicode(values) if suspicious else (kind, values, [])
    if kind == "json":
        return _as_json(values)
    if kind == "bool" and types == {bool}:
        return kind, values, []
    if kind in ("int64", "double", "decimal") and types <= {int, float, Decimal}:
        joined = widen(kind, _number_kind(values, types)) or "decimal"
        if joined == "double" and int in types:
            low, high = _bounds(values, types)
            joined = "double" if low >= -EXACT_IN_DOUBLE and high <= EXACT_IN_DOUBLE else "decimal"
        return joined, (_as_decimals(values) if joined == "decimal" else values), []
    if kind == "text" and types <= {str, int, float, Decimal}:
        return fit(as_text(values), kind, suspicious=suspicious)
    return _one_by_one(values, kind)


def as_text(values: list[Any]) -> list[Any]:
    """Numbers that arrive in a text column, written as text: no digit is lost by it."""
    return [v if v is None or type(v) is str else _number_text(v) for v in values]


def _number_text(value: Any) -> str:
    return repr(value) if type(value) is float else str(value)


def _bounds(values: Sequence[Any], types: set[type]) -> tuple[int, int]:
    """The smallest and the largest whole number. A column of nothing else, the usual case, is not copied for it."""
    whole = values if types == {int} and None not in values else [v for v in values if type(v) is int]
    return min(whole), max(whole)


def _as_decimals(values: Sequence[Any]) -> list[Any]:
    return [v if v is None or type(v) is Decimal else Decimal(_number_text(v)) for v in values]


def _as_json(values: list[Any]) -> tuple[Kind, ColumnData, list[Misfit]]:
    out: list[Any] = []
    misfits: list[Misfit] = []
    for index, value in enumerate(values):
        try:
            out.append(None if value is None else dump(value))
        except ValueError as error:
            out.append(None)
            misfits.append(Misfit(index, "value.not_unicode", str(error)))
    return "json", out, misfits


def _check_unicode(values: list[Any]) -> tuple[Kind, ColumnData, list[Misfit]]:
    misfits = []
    for index, value in enumerate(values):
        try:
            if value is not None:
                value.encode()
        except UnicodeEncodeError:
            misfits.append(Misfit(index, "value.not_unicode", "text with half of a surrogate pair is not Unicode"))
    bad = {m.index for m in misfits}
    return "text", [None if i in bad else v for i, v in enumerate(values)] if bad else values, misfits


def _one_by_one(values: list[Any], kind: Kind) -> tuple[Kind, ColumnData, list[Misfit]]:
    """Only for columns with a value that does not fit: find which, keep the rest."""
    kept: list[Any] = []
    misfits: list[Misfit] = []
    for index, value in enumerate(values):
        if value is None or _fits(value, kind):
            kept.append(value)
        else:
            kept.append(None)
            misfits.append(Misfit(index, "value.wrong_type", f"{_shown(value)} does not fit a column of type {kind}"))
    now, data, more = fit(kept, kind, suspicious=kind == "text")
    return now, data, misfits + more


def _fits(value: Any, kind: Kind) -> bool:
    if kind in ("int64", "double", "decimal"):
        return type(value) in (int, float, Decimal)
    if kind == "bool":
        return type(value) is bool
    if kind == "text" and type(value) in (int, float, Decimal):
        return True
    if type(value) is not str:
        return False
    if kind in ("date", "timestamp"):
        try:
            _temporal([value], kind)
        except (pa.ArrowInvalid, UnicodeEncodeError):
            return False
    return kind != "binary"


def _shown(value: Any) -> str:
    kinds = {str: "text", bool: "the flag", int: "the number", float: "the number", dict: "an object", list: "a list"}
    what = kinds.get(type(value), "the number")
    if isinstance(value, dict | list):
        return what
    shown = repr(value) if isinstance(value, str) else str(value)
    return f"{what} {shown[:60]}"
