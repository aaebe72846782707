"""Whether to retry, and after how long. Pure: the caller does the waiting."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

from ..errors import ReedError
from ..spec.http import Retry

# A source that asks for a longer rest than this is told apart from one that is briefly busy: the run fails and says so.
LONGEST_OBEYED_SECONDS = 900.0


@dataclass(frozen=True)
class Pause:
    """How long to wait before the next attempt, and whether the source asked for it."""

    seconds: float
    reason: str


def decide(policy: Retry, attempt: int, error: ReedError, random: float) -> Pause | None:
    """The pause after a failed attempt (counted from 1); None to give up.

    Our own pause is min(first * 2^(attempt-1), most) * (0.5 + random/2), random in [0, 1): with first=0.5 s it is 0.25-0.5, 0.5-1, 1-2,
    2-4 ... seconds. What the source asks for (Retry-After) has priority; up to a tenth more is added, so that many waiting readers do not
    come back at the same instant.
    """
    if not error.retryable or attempt >= policy.attempts:
        return None
    if error.wait_seconds is not None:
        if error.wait_seconds > LONGEST_OBEYED_SECONDS:
            return None
        return Pause(error.wait_seconds + random * min(error.wait_seconds * 0.1, 1.0), "the source said how long")
    bound = min(policy.first_wait.total_seconds() * 2 ** (attempt - 1), policy.max_wait.total_seconds())
    return Pause(bound * (0.5 + random / 2), "growing pause")


def retry_after_seconds(value: str | None, now: datetime) -> float | None:
    """Retry-After (RFC 9110, 10.2.3): a whole number of seconds, or an HTTP date. None if it cannot be read, or lies in the past: then our
    own pauses grow.
    """
    if not value:
        return None
    if re.fullmatch(r"\d{1,9}", value.strip()):
        return float(value) or None
    try:
        at = parsedate_to_datetime(value)
    except (TypeError, ValueError):
        return None
    at = at if at.tzinfo else at.replace(tzinfo=UTC)
    seconds = (at - now).total_seconds()
    return seconds if seconds > 0 else None
