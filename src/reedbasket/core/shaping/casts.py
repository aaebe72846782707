"""Converting values to the type that the feed asks for. What cannot be converted is a misfit, never a guess."""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable
from datetime import UTC, date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

import pyarrow as pa

from ..records.column_types import MOST_DIGITS, ColumnData, Kind
from ..records.exact_json import dump
from .values import BadValue, plain_decimal, shown

_WHOLE = re.compile(r"\s*[+-]?\d+\s*")
_FLAGS = {"true": True, "false": False, "yes": True, "no": False, "1": True, "0": False}


def cast_values(values: list[Any], kind: Kind) -> tuple[ColumnData, list[BadValue]]:
    """(data, misfits); a misfit leaves None in its place."""
    make = _CASTS[kind]
    made: list[Any] = []
    misfits: list[BadValue] = []
    for index, value in enumerate(values):
        if value is None:
            made.append(None)
            continue
        try:
            made.append(make(value))
        except (ValueError, InvalidOperation, OverflowError, TypeError):
            made.append(None)
            misfits.append(BadValue(index, "value.not_castable", f"{shown(value)} cannot be converted to {kind}"))
    if kind == "date":
        return pa.array(made, pa.date32()), misfits
    if kind == "timestamp":
        return pa.array(made, pa.timestamp("us", "UTC")), misfits
    return made, misfits


def _whole(value: Any) -> int:
    if isinstance(value, str):
        if not _WHOLE.fullmatch(value):
            raise ValueError(value)
        value = int(value)
    made = int(value)
    if made != value or not -(2**63) <= made < 2**63:
        raise ValueError(value)
    return made


def _decimal(value: Any) -> Decimal:
    if isinstance(value, bool):
        raise ValueError(value)
    made = Decimal(repr(value) if isinstance(value, float) else str(value).strip())
    if not made.is_finite() or abs(made.adjusted()) >= MOST_DIGITS:
        raise ValueError(value)
    return plain_decimal(made)


def _double(value: Any) -> float:
    if isinstance(value, bool):
        raise ValueError(value)
    return float(value)


def _flag(value: Any) -> bool:
    text = str(value).strip().lower()
    if text not in _FLAGS:
        raise ValueError(value)
    return _FLAGS[text]


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    return repr(value) if isinstance(value, float) else dump(value) if isinstance(value, dict | list | bool) else str(value)


def _date(value: Any) -> date:
    if not isinstance(value, str):
        raise ValueError(value)
    return date.fromisoformat(value) if len(value) == 10 else _instant(value).date()


def _instant(value: Any) -> datetime:
    """Text without a zone is taken as UTC: whoever asks for the cast knows that."""
    if not isinstance(value, str):
        raise ValueError(value)
    made = datetime.fromisoformat(value)
    return made.replace(tzinfo=UTC) if made.tzinfo is None else made.astimezone(UTC)


_CASTS: dict[Kind, Callable[[Any], Any]] = {
    "int64": _whole,
    "decimal": _decimal,
    "double": _double,
    "bool": _flag,
    "text": _text,
    "json": lambda value: dump(value, sort_keys=True),
    "date": _date,
    "timestamp": _instant,
    "uuid": lambda value: str(uuid.UUID(str(value))),
    "binary": lambda value: bytes.fromhex(str(value)),
}
