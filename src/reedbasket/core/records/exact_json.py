"""Writing parsed values as JSON, with exact numbers."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

import orjson


def dump(value: Any, *, sort_keys: bool = False) -> str:
    """Compact JSON.

    Raises:
        ValueError: a text is not valid Unicode.
    """
    try:
        return orjson.dumps(value, default=_number, option=orjson.OPT_SORT_KEYS if sort_keys else None).decode()
    except TypeError:
        # orjson knows no integer beyond 64 bits, and refuses lone surrogates.
        text = _slow(value, sort_keys)
        try:
            text.encode()
        except UnicodeEncodeError:
            raise ValueError("text with half of a surrogate pair is not valid Unicode") from None
        return text


def dump_lenient(value: Any) -> str:
    """Like `dump`, but text that is not valid Unicode is written with escapes, to keep a reject as it was received."""
    try:
        return dump(value)
    except ValueError:
        return json.dumps(value, default=str)


def _number(value: Any) -> Any:
    if isinstance(value, Decimal):
        return orjson.Fragment(str(value))
    raise TypeError(f"{type(value).__name__} cannot be written as JSON")


def _slow(value: Any, sort_keys: bool) -> str:
    if isinstance(value, dict):
        items = sorted(value.items()) if sort_keys else value.items()
        return "{" + ",".join(f"{json.dumps(k, ensure_ascii=False)}:{_slow(v, sort_keys)}" for k, v in items) + "}"
    if isinstance(value, list):
        return "[" + ",".join(_slow(v, sort_keys) for v in value) + "]"
    if isinstance(value, Decimal):
        return str(value)
    return json.dumps(value, ensure_ascii=False)
