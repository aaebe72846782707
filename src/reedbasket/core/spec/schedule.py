"""When a feed runs by itself, and what happens where it could not."""

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
        raise ValueError(f"a feed runs every 30s at most, every month at least; found {text!r}")
    return interval


def _check_cron(text: str) -> str:
    from datetime import UTC, datetime

    try:
        next(CronSim(text, datetime(2026, 1, 1, tzinfo=UTC)))
    except (CronSimError, StopIteration) as error:
        raise ValueError(
            f"not a cron expression of five fields, minute hour day month weekday: {text!r} ({error or 'it never comes'})"
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
    """A run for each range of time, [from, until), one after the other without a gap, due `delay` behind its end."""

    start: Time = Field(alias="from")
    length: Step
    delay: Duration = _NOTHING

    @model_validator(mode="after")
    def _whole_seconds(self) -> TimeWindows:
        if self.start.microsecond or (isinstance(self.length, timedelta) and self.length % timedelta(seconds=1)):
            raise ValueError("windows begin and end at whole seconds")
        return self


class Schedule(Model):
    """One of every, cron, windows and after. shift, windows_per_run: with after, how windows lie to those of the other feed."""

    every: Interval | None = Field(None, description="at a moment of the feed's own within each, so that not all begin at once")
    cron: Cron | None = Field(None, description="minute hour day month weekday, in `time_zone`")
    time_zone: Zone = Field("UTC", description="the time zone of `cron`")
    windows: TimeWindows | None = None
    after: Name | None = Field(
        None, description="when another feed has succeeded; window by window, where that one has windows"
    )
    shift: Duration = Field(_NOTHING, description="with after: how much later these windows lie than those they stand on")
    windows_per_run: int = Field(1, ge=1, le=10_000, description="with after: how many windows of the other feed make one here")
    jitter: Duration = Field(_NOTHING, description="begin up to so much later, each time by another part of it")
    missed: Literal["all", "latest", "none"] | None = Field(
        None, description="what becomes of runs that were missed; all with windows and after, else latest"
    )
    order: Literal["oldest", "newest"] = Field("oldest", description="which of several waiting windows comes first")
    while_running: Literal["skip", "queue"] = Field(
        "skip", description="what becomes of a run that is due while one is going on"
    )

    @model_validator(mode="after")
    def _consistent(self) -> Schedule:
        ways = [name for name in ("every", "cron", "after") if getattr(self, name) is not None]
        if self.windows is not None and self.after is None:
            ways.append("windows")
        if len(ways) != 1:
            raise ValueError(f"say one of every, cron, windows and after; found {' and '.join(ways) or 'none'}")
        stated = self.model_fields_set
        if self.missed == "all" and ("every" in ways or "cron" in ways):
            raise ValueError(
                f"a run by `{ways[0]}` takes all that is new; missed: all is for windows, each of which has its own run"
            )
        for name, goes_with in (("time_zone", "cron"), ("shift", "after"), ("windows_per_run", "after")):
            if name in stated and goes_with not in ways:
                raise ValueError(f"`{name}` goes with `{goes_with}`")
        if self.windows is not None and self.after is not None and "windows_per_run" in stated:
            raise ValueError("the length of the windows says `windows_per_run` already; leave one of the two out")
        return self

    @property
    def missed_runs(self) -> Literal["all", "latest", "none"]:
        """What `missed` means where it is not said."""
        return self.missed or ("all" if self.windows or self.after else "latest")


class RunRetry(Model):
    """Whether a run that failed by its schedule is tried again. Runs that somebody asked for are not."""

    attempts: int = Field(2, ge=0, le=20)
    first_wait: Duration = Field(default="1m", description="before the first; doubled each time, an hour at most")  # type: ignore[assignment]
    error_codes: list[str] | None = Field(
        None, description="of errors that are worth it; those that may pass where nothing is said"
    )
