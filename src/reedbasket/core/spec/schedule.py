"""When a feed runs automatically, and what happens if it could not."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Any, Literal

from cronsim import CronSim, CronSimError
from pydantic import AfterValidator, BeforeValidator, Field, PlainSerializer, WithJsonSchema, model_validator

from .fields import Model, Name, Zone
from .times import Duration, Step, Time, format_duration, parse_duration

SHORTEST = timedelta(seconds=30)
LONGEST = timedelta(days=31)


def _parse_interval(text: Any) -> Any:
    if text == "month":
        return text
    interval = parse_duration(text)
    if not SHORTEST <= interval <= LONGEST:
        raise ValueError(f"a feed can run at most every 30s, and at least every month; found {text!r}")
    return interval


def _check_cron(text: str) -> str:
    from datetime import UTC, datetime

    try:
        next(CronSim(text, datetime(2026, 1, 1, tzinfo=UTC)))
    except (CronSimError, StopIteration) as error:
        raise ValueError(
            f"not a cron expression of five fields, minute hour day month weekday: {text!r} ({error or 'it never occurs'})"
        ) from None
    return text


Interval = Annotated[
    timedelta | Literal["month"],
    BeforeValidator(_parse_interval),
    PlainSerializer(lambda value: value if isinstance(value, str) else format_duration(value), return_type=str),
    WithJsonSchema({"type": "string", "examples": ["30s", "15m", "1h", "1d", "month"]}),
]
Cron = Annotated[str, AfterValidator(_check_cron)]
_NOTHING = timedelta(0)


class TimeWindows(Model):
    """A run for each range of time, [from, until), one after the other without a gap, due `delay` after its end."""

    start: Time = Field(alias="from")
    length: Step
    delay: Duration = _NOTHING

    @model_validator(mode="after")
    def _whole_seconds(self) -> TimeWindows:
        if self.start.microsecond or (isinstance(self.length, timedelta) and self.length % timedelta(seconds=1)):
            raise ValueError("windows begin and end at whole seconds")
        return self


class Schedule(Model):
    """One of `every`, `cron`, `windows` and `after`. `shift` and `windows_per_run` go with `after`, and relate a feed's windows to those
    of the other feed.
    """

    every: Interval | None = Field(
        None, description="an interval; each feed has its own offset within it, so that they do not all start at once"
    )
    cron: Cron | None = Field(None, description="minute hour day month weekday, in `time_zone`")
    time_zone: Zone = Field("UTC", description="the time zone of `cron`")
    windows: TimeWindows | None = None
    after: Name | None = Field(None, description="run after another feed has succeeded; window by window if it has windows")
    shift: Duration = Field(_NOTHING, description="with `after`: by how much these windows are shifted from the other feed's")
    windows_per_run: int = Field(
        1, ge=1, le=10_000, description="with `after`: how many windows of the other feed make one here"
    )
    jitter: Duration = Field(_NOTHING, description="start up to this much later, by a random part of it")
    missed: Literal["all", "latest", "none"] | None = Field(
        None, description="what happens to missed runs; by default all with `windows` and `after`, otherwise latest"
    )
    order: Literal["oldest", "newest"] = Field("oldest", description="which of several waiting windows runs first")
    while_running: Literal["skip", "queue"] = Field(
        "skip", description="what happens to a run that is due while another is running"
    )

    @model_validator(mode="after")
    def _consistent(self) -> Schedule:
        ways = [name for name in ("every", "cron", "after") if getattr(self, name) is not None]
        if self.windows is not None and self.after is None:
            ways.append("windows")
        if len(ways) != 1:
            raise ValueError(f"give one of every, cron, windows and after; found {' and '.join(ways) or 'none'}")
        stated = self.model_fields_set
        if self.missed == "all" and ("every" in ways or "cron" in ways):
            raise ValueError(
                f"a run by `{ways[0]}` loads everything that is new; `missed: all` is for windows, each of which has its own run"
            )
        for name, goes_with in (("time_zone", "cron"), ("shift", "after"), ("windows_per_run", "after")):
            if name in stated and goes_with not in ways:
                raise ValueError(f"`{name}` goes with `{goes_with}`")
        if self.windows is not None and self.after is not None and "windows_per_run" in stated:
            raise ValueError("`windows_per_run` already follows from the length of the windows; leave one of the two out")
        return self

    @property
    def missed_runs(self) -> Literal["all", "latest", "none"]:
        """What `missed` means if it is not given."""
        return self.missed or ("all" if self.windows or self.after else "latest")


class RunRetry(Model):
    """Whether a run that its schedule started is retried if it fails. Runs that somebody started are not."""

    attempts: int = Field(2, ge=0, le=20)
    first_wait: Duration = Field(default="1m", description="before the first attempt; doubled each time, at most an hour")  # type: ignore[assignment]
    error_codes: list[str] | None = Field(None, description="codes of errors to retry; by default those that may go away")
