"""Durations and instants as people write them: `5m`, `1h30m`, `2026-01-01T00:00:00Z`."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any

from pydantic import BeforeValidator, PlainSerializer, WithJsonSchema

_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, "w": 604800.0}
_PART = re.compile(r"(\d+(?:\.\d+)?)(ms|s|m|h|d|w)")


def parse_duration(text: Any) -> timedelta:
    """'5m' -> 5 minutes. Units: ms, s, m, h, d, w, joined as in '1h30m'. Raises ValueError."""
    if isinstance(text, timedelta):
        return text
    if not isinstance(text, str) or not text or _PART.sub("", text):
        raise ValueError(f"not a duration: {text!r}; write for example 30s, 5m, 1h30m or 2d")
    return timedelta(seconds=sum(float(n) * _UNITS[unit] for n, unit in _PART.findall(text)))


def parse_time(text: Any) -> datetime:
    """RFC 3339 text (or a bare date, midnight UTC) -> aware datetime in UTC. Raises ValueError."""
    if isinstance(text, datetime):
        value = text
    else:
        try:
            value = datetime.fromisoformat(str(text))
        except ValueError:
            raise ValueError(f"not a time: {text!r}; write for example 2026-01-01T00:00:00Z") from None
    return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC)


def format_duration(value: timedelta) -> str:
    """The shortest way to write it back: 90 minutes -> '1h30m'."""
    rest = value.total_seconds()
    text = ""
    for unit in ("d", "h", "m"):
        count = int(rest // _UNITS[unit])
        if count:
            text += f"{count}{unit}"
            rest -= count * _UNITS[unit]
    if rest or not text:
        text += f"{rest:g}s"
    return text


def format_time(value: datetime) -> str:
    """RFC 3339 in UTC with 'Z', microseconds only where there are any."""
    return value.astimezone(UTC).isoformat().replace("+00:00", "Z")


Duration = Annotated[
    timedelta,
    BeforeValidator(parse_duration),
    PlainSerializer(format_duration, return_type=str),
    WithJsonSchema({"type": "string", "examples": ["30s", "5m", "1h30m"]}),
]
