"""How soon the next request may be sent, from the declared limits and from what the source said. Pure: `Pacer` keeps the state."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from ..spec.http import Pace, Retry

# Requests go 4 % slower than a rate allows: two that are jostled on the way must not look like one too many to a source that
# counts by the second. Measured in bench/api_pace.py: at 2 % one in a thousand was refused, each costing a second.
MARGIN = 1.04
# Half of what the margin of a second takes in.
LATE_SECONDS = 0.02
# A rate is learned only from limits of windows this short: 50 a second are spread out, 5,000 an hour are not.
LONGEST_LEARNED_SECONDS = 10.0
LONGEST_REST_SECONDS = 900.0
HOUR, DAY = 3600, 86400
# Quotas are counted by the minute; a minute that has begun counts whole, so that the true count is never above.
_BUCKET = 60


@dataclass(frozen=True)
class PaceState:
    """The state that all requests to one source share. Times are seconds since 1970; 0 for never.

    Attributes:
        next_at: when the rate allows the next request after a burst.
        not_before: the source asked everyone to wait until then.
        left: how many requests are left until `left_until`, according to the source.
        window: of the source's limit, if it is short.
        limit: requests in that window.
        failures: in a row.
        rests_until: no request is sent before.
        used: ((minute, requests in it), ...) for as long as a quota lasts.
    """

    next_at: float = 0.0
    not_before: float = 0.0
    left: int | None = None
    left_until: float = 0.0
    window: float = 0.0
    limit: int = 0
    failures: int = 0
    rests_until: float = 0.0
    used: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True)
class Wait:
    """The wait before a request; why: "" for the rate's regular steps."""

    seconds: float
    why: str = ""


@dataclass(frozen=True)
class RateLimitFeedback:
    """What an answer, or its absence, means for the pace.

    Attributes:
        failed: True if the source itself failed; False if it answered; None for neither.
        rest_seconds: it asked for a pause of that length.
        left: how many requests are left for `left_seconds`.
        limit: requests allowed in a window.
        window: seconds.
    """

    failed: bool | None = False
    rest_seconds: float | None = None
    left: int | None = None
    left_seconds: float | None = None
    limit: int | None = None
    window: float | None = None


def reserve(pace: Pace, state: PaceState, now: float) -> tuple[PaceState, Wait]:
    """Take the next free moment: (state after, wait until then).

    A steady rate with room for a burst is kept as one time (the generic cell rate algorithm, ITU-T I.371, annex A).
    """
    gap = _gap(pace, state)
    slack = (pace.burst - 1) * gap
    at, why = max(now, state.next_at - slack), ""
    if state.not_before > at:
        at, why = state.not_before, "the source asked to wait"
    if state.rests_until > at:
        at, why = state.rests_until, f"it failed {state.failures} times in a row, and cools down"
    left = state.left if state.left_until > at else None
    if left is not None and left <= 0:
        at, left, why = state.left_until, None, "the source says that no requests are left until then"
    for quota, seconds, words in ((pace.per_hour, HOUR, "an hour"), (pace.per_day, DAY, "a day")):
        free = _quota_free_at(state.used, quota, seconds, at) if quota else at
        if free > at:
            at, why = free, f"{quota:,} requests {words} are used up"
    used = _counted(state.used, at) if pace.per_hour or pace.per_day else ()
    next_at = max(state.next_at, at) + gap if gap else state.next_at
    after = replace(state, next_at=next_at, left=None if left is None else left - 1, used=used)
    return after, Wait(at - now, why)


def is_free(pace: Pace, state: PaceState, now: float) -> bool:
    """Whether a request may be sent now without being counted: there is no rate and no pause. Quotas are counted elsewhere."""
    held = max(state.not_before, state.rests_until, state.left_until if state.left is not None else 0.0)
    return not _gap(pace, state) and held <= now and not state.failures


def delayed(state: PaceState, late_seconds: float) -> PaceState:
    """The state after a request was sent so much later than its moment: the following ones move too, or they would bunch up. What the
    margin absorbs is left alone.
    """
    excess = late_seconds - LATE_SECONDS
    return replace(state, next_at=state.next_at + excess) if excess > 0 else state


def apply_feedback(retry: Retry, state: PaceState, now: float, said: RateLimitFeedback) -> PaceState:
    """The state after an answer."""
    if said.rest_seconds is not None:
        state = replace(state, not_before=max(state.not_before, now + said.rest_seconds))
    if said.left is not None and said.left_seconds is not None:
        until = now + said.left_seconds
        # Answers overtake each other: within one window the smaller figure is the later one.
        same = state.left is not None and abs(until - state.left_until) < max(2.0, 0.05 * said.left_seconds)
        left = min(said.left, state.left) if same and state.left is not None else said.left
        state = replace(state, left=left, left_until=until)
    if said.limit and said.window and said.window <= LONGEST_LEARNED_SECONDS:
        # The figure of what is left is rounded to whole seconds, too coarse for a short window: the rate alone keeps to it.
        window = max(said.window, state.window if said.limit == state.limit else 0.0)
        state = replace(state, limit=said.limit, window=window, left=None)
    if said.failed is None:
        return state
    if not said.failed:
        return replace(state, failures=0, rests_until=0.0) if state.failures else state
    failures = state.failures + 1
    beyond = failures - retry.cooldown_after_failures
    if beyond < 0:
        return replace(state, failures=failures)
    rest = min(retry.cooldown.total_seconds() * 2 ** min(beyond, 20), LONGEST_REST_SECONDS)
    return replace(state, failures=failures, rests_until=max(state.rests_until, now + rest))


def _gap(pace: Pace, state: PaceState) -> float:
    """Seconds between two requests: the declared rate's, or the source's own, whichever is slower."""
    gaps = [MARGIN / pace.per_second] if pace.per_second else []
    if state.limit and state.window:
        gaps.append(MARGIN * state.window / state.limit)
    return max(gaps, default=0.0)


def _counted(used: tuple[tuple[int, int], ...], at: float) -> tuple[tuple[int, int], ...]:
    minute = int(at // _BUCKET)
    kept = dict(item for item in used if item[0] >= minute - DAY // _BUCKET)
    kept[minute] = kept.get(minute, 0) + 1
    return tuple(sorted(kept.items()))


def _quota_free_at(used: tuple[tuple[int, int], ...], quota: int, seconds: int, at: float) -> float:
    """When one more request leaves any `seconds` with at most `quota`."""
    minute, reach = int(at // _BUCKET), seconds // _BUCKET
    inside = [(m, n) for m, n in used if m >= minute - reach]
    excess = sum(n for _, n in inside) - quota + 1
    for m, n in inside:
        if excess <= 0:
            break
        excess -= n
        at = max(at, float((m + reach + 1) * _BUCKET))
    return at


_POLICY = re.compile(r"""(?:^|,)\s*(?:"[^"]*"|[\w-]+)?\s*;?\s*(?:q=)?(\d+)\s*;\s*w=(\d+)""")
_ITEM = re.compile(r"\br=(\d+)\s*;\s*t=(\d+)")


def stated_limits(headers: Mapping[str, str], now: float) -> RateLimitFeedback:
    """What an answer says about limits: the RateLimit and RateLimit-Policy fields (draft-ietf-httpapi-ratelimit-headers, its list form and
    the older separate fields), otherwise X-RateLimit-*.

    A reset of more than 30 years is a time since 1970; anything else is seconds from now. A window that is not stated is taken to be the
    longest reset seen.

    Args:
        headers: names in lower case.
        now: seconds since 1970.
    """
    limit = left = reset = window = None
    if not any("ratelimit" in name or "rate-limit" in name for name in headers):
        return RateLimitFeedback()
    item, policy = _ITEM.search(headers.get("ratelimit", "")), _POLICY.search(headers.get("ratelimit-policy", ""))
    if item:
        left, reset = int(item[1]), float(item[2])
    for prefix in ("ratelimit-", "x-ratelimit-", "x-rate-limit-"):
        left = _whole(headers.get(prefix + "remaining")) if left is None else left
        limit = _whole(headers.get(prefix + "limit")) if limit is None else limit
        seconds = _whole(headers.get(prefix + "reset"))
        reset = float(seconds) if reset is None and seconds is not None else reset
    if policy:
        limit, window = int(policy[1]), float(policy[2])
    if reset is not None and reset > 30 * 365 * DAY:
        reset = max(0.0, reset - now)
    if window is None and limit is not None:
        window = reset
    return RateLimitFeedback(failed=False, left=left, left_seconds=reset, limit=limit, window=window or None)


def _whole(text: str | None) -> int | None:
    """The first number: `100, 100;w=60` is 100."""
    found = re.match(r"\s*(\d{1,12})", text or "")
    return int(found[1]) if found else None
