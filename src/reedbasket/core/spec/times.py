"""Durations and instants as people write them: `5m`, `1h30m`, `2026-01-01T00:00:00Z`."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, timezone
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, PlainSerializer, WithJsonSchema

_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, "w": 604800.0}
_PART = re.compile(r"(\d+(?:\.\d+)?)(ms|s|m|h|d|w)")


def parse_duration(text: Any) -> timedelta:
    """'5m' -> 5 minutes. Units: ms, s, m, h, d, w, combined as in '1h30m'.

    Raises:
        ValueError: it is not a duration.
    """
    if isinstance(text, timedelta):
        return text
    if not isinstance(text, str) or not text or _PART.sub("", text):
        raise ValueError(f"not a duration: {text!r}; write for example 30s, 5m, 1h30m or 2d")
    return timedelta(seconds=sum(float(n) * _UNITS[unit] for n, unit in _PART.findall(text)))


def parse_time(text: Any) -> datetime:
    """RFC 3339 text (or a date, midnight UTC) -> aware datetime in UTC.

    Raises:
        ValueError: it is not a time.
    """
    if isinstance(text, datetime):
        value = text
    else:
        try:
            value = datetime.fromisoformat(str(text))
        except ValueError:
            raise ValueError(f"not a time: {text!r}; write for example 2026-01-01T00:00:00Z") from None
    return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC)


def format_duration(value: timedelta) -> str:
    """The shortest way to write it: 90 minutes -> '1h30m'."""
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
    """RFC 3339 in UTC with 'Z', microseconds only if there are any."""
    return value.astimezone(UTC).isoformat().replace("+00:00", "Z")


Duration = Annotated[
    timedelta,
    BeforeValidator(parse_duration),
    PlainSerializer(format_duration, return_type=str),
    WithJsonSchema({"type": "string", "examples": ["30s", "5m", "1h30m"]}),
]


Time = Annotated[
    datetime,
    BeforeValidator(parse_time),
    PlainSerializer(format_time, return_type=str),
    WithJsonSchema({"type": "string", "examples": ["2026-01-01", "2026-01-01T06:00:00Z"]}),
]


def _parse_step(text: Any) -> Any:
    if text == "month":
        return text
    step = parse_duration(text)
    if step < timedelta(seconds=1):
        raise ValueError(f"a window must be at least a second long, found {text!r}")
    return step


# The length of a window: a duration, or a calendar month.
Step = Annotated[
    timedelta | Literal["month"],
    BeforeValidator(_parse_step),
    PlainSerializer(lambda step: step if isinstance(step, str) else format_duration(step), return_type=str),
    WithJsonSchema({"type": "string", "examples": ["15m", "1h", "1d", "7d", "month"]}),
]

# Formats of time beside strftime's: seconds and milliseconds since 1970.
EPOCHS = {"epoch": 1, "epoch_ms": 1000}
_FINEST = (
    ("%f", timedelta(microseconds=1)),
    ("%S", timedelta(seconds=1)),
    ("%M", timedelta(minutes=1)),
    ("%H", timedelta(hours=1)),
)


_WRITTEN = re.compile(
    r"\d{4}-\d\d-\d\d(?:(?P<apart>[T t])\d\d:\d\d(?P<seconds>:\d\d)?(?:(?P<point>[.,])(?P<fraction>\d+))?"
    r"(?P<space> ?)(?P<zone>Z|z|[+-]\d\d(?P<colon>:)?(?P<minutes>\d\d)?)?)?"
)


class TimeAsWritten(datetime):
    """An instant with the text that a source wrote for it. Unless a template has a format of its own, it is written so: sources that
    compare times as text need their own format.
    """

    written: str

    @classmethod
    def of(cls, value: datetime, written: str) -> TimeAsWritten:
        """An instant that remembers how it was written."""
        made = cls.fromtimestamp(0, UTC) + (value - datetime.fromtimestamp(0, UTC))
        made.written = written
        return made


def plain_time(value: Any) -> Any:
    """The instant alone."""
    return datetime.combine(value.date(), value.timetz()) if isinstance(value, TimeAsWritten) else value


def write_like(value: datetime, sample: str) -> str:
    """A time in the format of another: its letters, digits of the second and zone (RFC 3339 and similar); in RFC 3339 if the sample is
    nothing like it. Always rounded down.

    A fraction of zeros before an offset, or at the end, is left out: so the text sorts before every other of that second.
    """
    found = _WRITTEN.fullmatch(sample)
    if found is None:
        return format_time(value)
    zone = found["zone"] or ""
    if zone and zone not in "Zz":
        hours, minutes = int(zone[:3]), int(found["minutes"] or 0)
        value = value.astimezone(timezone(timedelta(hours=hours, minutes=-minutes if zone[0] == "-" else minutes)))
    else:
        value = value.astimezone(UTC)
    if found["apart"] is None:
        return value.strftime("%Y-%m-%d")
    text = value.strftime(f"%Y-%m-%d{found['apart']}%H:%M" + (":%S" if found["seconds"] else ""))
    if found["fraction"]:
        digits = f"{value.microsecond:06}".ljust(len(found["fraction"]), "0")[: len(found["fraction"])]
        if digits.strip("0") or zone in ("Z", "z"):
            text += found["point"] + digits
    return text + found["space"] + zone


def step_of(sample: str) -> timedelta:
    """The smallest step that a format can show."""
    found = _WRITTEN.fullmatch(sample)
    if found is None:
        return timedelta(microseconds=1)
    if found["apart"] is None:
        return timedelta(days=1)
    if not found["seconds"]:
        return timedelta(minutes=1)
    return timedelta(microseconds=int(10 ** (6 - min(6, len(found["fraction"] or "")))))


def write_time(value: datetime, form: str) -> str:
    """A time in a format: epoch, epoch_ms, strftime's letters; if empty, the source's format if it is known, otherwise RFC 3339. Always
    rounded down.
    """
    if not form:
        return value.written if isinstance(value, TimeAsWritten) else format_time(value)
    if form in EPOCHS:
        return str((value - datetime.fromtimestamp(0, UTC)) * EPOCHS[form] // timedelta(seconds=1))
    return value.strftime(form)


def finest_step(form: str) -> timedelta:
    """The smallest step that a format can show: epoch -> 1 s, %Y-%m-%d -> 1 d, none -> 1 us."""
    if form in EPOCHS:
        return timedelta(seconds=1) / EPOCHS[form]
    if not form or "%s" in form or "%c" in form or "%X" in form or "%T" in form:
        return timedelta(seconds=1) if form else timedelta(microseconds=1)
    return next((step for letter, step in _FINEST if letter in form), timedelta(days=1))


def read_time(value: Any, form: str | None) -> datetime:
    """A time as a source writes it.

    Raises:
        ValueError: it cannot be read.
    """
    if form is None:
        if not isinstance(value, str | datetime):
            raise ValueError(f"not a time: {value!r}")
        return parse_time(value)
    try:
        if form in EPOCHS:
            if isinstance(value, bool):
                raise ValueError(value)
            # Microseconds, rounded: a float of seconds holds no more.
            return datetime.fromtimestamp(0, UTC) + timedelta(microseconds=round(float(value) * 1_000_000 / EPOCHS[form]))
        found = datetime.strptime(str(value), form)
    except (TypeError, ValueError, OverflowError):
        raise ValueError(f"not a time in the format {form}: {value!r}") from None
    return (found if found.tzinfo else found.replace(tzinfo=UTC)).astimezone(UTC)
