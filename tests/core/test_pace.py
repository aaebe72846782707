"""How soon a source may be asked: bursts, quotas, what it says of its limits, and rest after failures. No clock but the test's."""

from __future__ import annotations

import threading
import time
from datetime import timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from reedbasket.core.runs import RunOutcome
from reedbasket.core.sources.pace import DAY, HOUR, MARGIN, PaceState, RateLimitFeedback, apply_feedback, reserve, stated_limits
from reedbasket.core.spec.http import Pace, Retry
from tests.core.test_requests import basket
from tests.support.feeds import Heard, run_once
from tests.support.source import Answer, Request, serving

NOW = 1_800_000_000.0


def starts(pace: Pace, state: PaceState, asked_at: list[float]) -> tuple[list[float], PaceState]:
    found = []
    for at in asked_at:
        state, wait = reserve(pace, state, at)
        found.append(at + wait.seconds)
    return found, state


@given(st.integers(1, 20), st.integers(1, 8), st.lists(st.floats(0, 3), min_size=1, max_size=60))
def test_a_burst_is_made_up_for(per_second: int, burst: int, gaps: list[float]) -> None:
    at, times = NOW, []
    for gap in gaps:
        at += gap
        times.append(at)
    found, _ = starts(Pace(per_second=per_second, burst=burst), PaceState(), times)
    # Over any stretch: no more than the burst, and what the rate brings meanwhile.
    for i, first in enumerate(found):
        for count, last in enumerate(found[i:], 1):
            assert count <= burst + (last - first) * per_second / MARGIN + 1e-3


@given(st.integers(1, 6), st.lists(st.floats(0, 1500), min_size=5, max_size=60))
def test_a_quota_holds_in_any_hour(quota: int, gaps: list[float]) -> None:
    pace, state, at, found = Pace(per_hour=quota, per_day=5 * quota), PaceState(), NOW, []
    for gap in gaps:
        state, wait = reserve(pace, state, at + gap)
        at = at + gap + wait.seconds
        found.append(at)
    for seconds, most in ((HOUR, quota), (DAY, 5 * quota)):
        for first in found:
            assert sum(1 for other in found if first <= other < first + seconds) <= most
    assert len(state.used) <= DAY // 60 + 1


def test_what_is_left_is_counted_down_and_what_is_learned_is_kept_to() -> None:
    state = apply_feedback(Retry(), PaceState(), NOW, RateLimitFeedback(left=2, left_seconds=30))
    found, state = starts(Pace(), state, [NOW, NOW, NOW])
    assert found == [NOW, NOW, NOW + 30]
    # An answer that was overtaken speaks of more than is left.
    state = apply_feedback(Retry(), state, NOW + 31, RateLimitFeedback(left=10, left_seconds=60))
    state = apply_feedback(Retry(), state, NOW + 31.2, RateLimitFeedback(left=4, left_seconds=60))
    state = apply_feedback(Retry(), state, NOW + 31.3, RateLimitFeedback(left=7, left_seconds=59.8))
    assert state.left == 4
    short = apply_feedback(Retry(), PaceState(), NOW, RateLimitFeedback(limit=50, window=1.0, left=0, left_seconds=1))
    found, _ = starts(Pace(), short, [NOW] * 50)
    assert found[-1] - NOW == pytest.approx(49 * MARGIN / 50, abs=1e-4)
    hourly = apply_feedback(Retry(), PaceState(), NOW, RateLimitFeedback(limit=5000, window=3600.0))
    assert starts(Pace(), hourly, [NOW] * 3)[0] == [NOW] * 3


def test_a_source_that_fails_again_and_again_rests_and_is_tried() -> None:
    retry = Retry(cooldown_after_failures=3, cooldown=timedelta(seconds=4))
    state, now = PaceState(), NOW
    for _ in range(2):
        state = apply_feedback(retry, state, now, RateLimitFeedback(failed=True))
    assert reserve(Pace(), state, now)[1].seconds == 0
    for rest in (4, 8, 16):
        state = apply_feedback(retry, state, now, RateLimitFeedback(failed=True))
        state, wait = reserve(Pace(), state, now)
        assert (wait.seconds, "in a row" in wait.why) == (rest, True)
        now += rest
    for _ in range(30):
        state = apply_feedback(retry, state, now, RateLimitFeedback(failed=True))
    assert reserve(Pace(), state, now)[1].seconds == 900
    assert apply_feedback(retry, state, now, RateLimitFeedback(failed=None)) == state  # neither failed nor answered
    assert reserve(Pace(), apply_feedback(retry, state, now, RateLimitFeedback()), now)[1].seconds == 0


@pytest.mark.parametrize(
    ("headers", "said"),
    [
        ({}, (None, None, None, None)),
        ({"x-ratelimit-limit": "60", "x-ratelimit-remaining": "0", "x-ratelimit-reset": "17"}, (0, 17, 60, 17)),
        ({"x-ratelimit-remaining": "5", "x-ratelimit-reset": str(int(NOW) + 90)}, (5, 90, None, None)),
        ({"ratelimit-limit": "100, 100;w=60", "ratelimit-remaining": "99", "ratelimit-reset": "60"}, (99, 60, 100, 60)),
        ({"ratelimit": '"default";r=50;t=30', "ratelimit-policy": '"default";q=100;w=60'}, (50, 30, 100, 60)),
        ({"x-ratelimit-limit": "soon", "x-ratelimit-remaining": "-", "x-ratelimit-reset": ""}, (None, None, None, None)),
    ],
)
def test_limits_as_sources_write_them(headers: dict[str, str], said: tuple[float | None, ...]) -> None:
    found = stated_limits(headers, NOW)
    assert (found.left, found.left_seconds, found.limit, found.window) == said


def test_a_run_tells_that_it_waits_and_is_cancelled_at_once(tmp_path: Path) -> None:
    stop, heard_all = threading.Event(), Heard()
    waiting: list[str] = []

    class Watching(Heard):
        def progress(self, progress: object) -> None:
            if getattr(progress, "waiting", ""):
                waiting.append(progress.waiting)  # type: ignore[attr-defined]
                stop.set()

    heard_all = Watching()
    with serving(lambda request: Answer({}, 429, {"Retry-After": "50"})) as source:
        began = time.monotonic()
        result, _ = run_once(basket(source.url, "  - {table: things, get: /things}"), tmp_path, stop=stop, heard=heard_all)
    assert (result.outcome, time.monotonic() - began < 5) == (RunOutcome.CANCELLED, True)
    assert waiting[0].endswith("the source said how long")


def test_a_quota_that_is_used_up_ends_the_run_and_says_when_it_is_free(tmp_path: Path) -> None:
    def answer(request: Request) -> Answer:
        page = int(request.query.get("page", 1))
        return Answer([{"id": page}] if page < 9 else [])

    table = "  - {table: things, get: /things, pagination: {by: page_number, param: page}, primary_key: id}"
    with serving(answer) as source:
        result, heard_all = run_once(basket(source.url, table, extra="rate_limit: {per_hour: 3}"), tmp_path)
    assert result.error is not None
    assert (result.error["code"], len(heard_all.requests)) == ("source.quota_exhausted", 3)
    assert "3 requests an hour are used up" in result.error["found"]
