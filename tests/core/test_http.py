"""Reading over HTTP against a source that misbehaves."""

from __future__ import annotations

import json
import threading
import time
from dataclasses import asdict
from datetime import UTC, datetime
from decimal import Decimal
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from reedbasket.core.errors import CredentialsRefused, SourceBusy, SourceFailed
from reedbasket.core.records import json_body
from reedbasket.core.runs import RunOutcome
from reedbasket.core.sources.pace import MARGIN, PaceState, RateLimitFeedback, apply_feedback, reserve
from reedbasket.core.sources.pacer import LocalPacer
from reedbasket.core.sources.retry import decide, retry_after_seconds
from reedbasket.core.spec.http import Pace, Retry
from tests.support.feeds import SECRET, basket_text, run_once, table_rows
from tests.support.source import Answer, Changing, Request, serving

THINGS = [{"id": f"T{i:03d}", "n": i, "updated_at": f"2026-03-01T00:{i // 60:02d}:{i % 60:02d}Z"} for i in range(130)]


class Failing:
    """Answers `failures` first, each once, from request number `begin` on; then the honest list."""

    def __init__(self, *failures: Answer, begin: int = 1) -> None:
        self.honest = Changing(list(THINGS))
        self.failures = list(failures)
        self.begin = begin
        self.count = 0

    def __call__(self, request: Request) -> Answer:
        self.count += 1
        if self.count >= self.begin and self.failures:
            return self.failures.pop(0)
        return self.honest(request)


@pytest.mark.parametrize(
    ("failure", "found"),
    [
        (Answer({"error": "later"}, 429, {"Retry-After": "0"}), "429"),
        (Answer({"error": "down"}, 503), "503"),
        (Answer({"error": "oops"}, 500), "500"),
        (Answer(raw=b'{"items": [', cut=500), "ended after"),
    ],
    ids=["busy", "closed", "broken", "cut off"],
)
def test_a_passing_failure_is_tried_again_and_logged(tmp_path: Path, failure: Answer, found: str) -> None:
    with serving(Failing(failure, begin=2)) as source:
        result, heard = run_once(basket_text(source.url), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED
    assert len(table_rows(tmp_path, "things")) == 130
    failed = [r for r in heard.requests if r.problem]
    assert len(failed) == 1
    assert found in failed[0].problem
    assert heard.requests[heard.requests.index(failed[0]) + 1].attempt == 2


@pytest.mark.parametrize(
    ("failures", "code", "attempts"),
    [
        ([Answer({}, 500)] * 5, "source.failed", 3),
        ([Answer({}, 429, {"Retry-After": "7200"})], "source.busy", 1),
        ([Answer({"why": "no"}, 401)], "source.credentials_refused", 1),
        ([Answer({}, 404)], "source.bad_request", 1),
        ([Answer({}, 302, {"Location": "ftp://elsewhere.example/"})], "source.moved", 1),
        ([Answer(raw=b"<html>Sign in</html>")] * 5, "source.body_unreadable", 3),
        ([Answer({"data": []})], "source.records_not_found", 1),
        ([Answer({"items": [], "meta": {"next": {"a": 1}}})], "source.bad_page_token", 1),
        ([Answer(raw=b'{"items": [', cut=500)] * 5, "source.body_cut_off", 3),
    ],
)
def test_a_lasting_failure_ends_the_run_and_keeps_what_was_committed(
    tmp_path: Path, failures: list[Answer], code: str, attempts: int
) -> None:
    with serving(Failing(*failures, begin=3)) as source:
        result, heard = run_once(basket_text(source.url, rows_per_commit=50), tmp_path)
    assert result.outcome is RunOutcome.FAILED
    assert result.error is not None
    assert result.error["code"] == code
    assert result.error["fix"]
    assert len(heard.requests) == 2 + attempts
    # The first two pages are one batch, committed or given up as one; a second run takes the rest and doubles nothing.
    with serving(Changing(list(THINGS))) as source:
        again, _ = run_once(basket_text(source.url, rows_per_commit=50), tmp_path, run=2)
    assert again.outcome is RunOutcome.SUCCEEDED
    assert [r["id"] for r in table_rows(tmp_path, "things")] == [t["id"] for t in THINGS]


def test_the_same_token_twice_is_a_circle(tmp_path: Path) -> None:
    def circle(request: Request) -> Answer:
        return Answer({"items": THINGS[:5], "meta": {"next": "round"}})

    with serving(circle) as source:
        result, _ = run_once(basket_text(source.url), tmp_path)
        assert len(source.requests) == 2
    assert result.error is not None
    assert result.error["code"] == "source.pages_looped"


def test_a_source_that_is_not_there_or_says_nothing(tmp_path: Path) -> None:
    result, _ = run_once(basket_text("http://127.0.0.1:9"), tmp_path)
    assert result.error is not None
    assert (result.error["code"], result.error["retryable"]) == ("source.unreachable", True)
    assert "attempt 3 of 3" in result.error["found"]

    quiet = threading.Event()

    def silent(request: Request) -> Answer:
        quiet.wait(2)
        return Answer({"items": []})

    with serving(silent) as source:
        result, _ = run_once(basket_text(source.url, read=0.1), tmp_path)
        quiet.set()
    assert result.error is not None
    assert result.error["code"] == "source.timed_out"


def test_the_secret_is_sent_and_appears_nowhere(tmp_path: Path) -> None:
    def echoing(request: Request) -> Answer:
        return Answer({"you sent": request.headers["authorization"], "url": request.path}, 403)

    with serving(echoing) as source:
        result, heard = run_once(basket_text(source.url).replace("get: /things", 'get: "/things/{settings.token}"'), tmp_path)
        assert source.requests[0].headers["authorization"] == f"Bearer {SECRET}"
    told = json.dumps([result.error, heard.lines, [asdict(r) for r in heard.requests], [p.as_dict() for p in result.tables]])
    assert result.error is not None
    assert "403" in result.error["found"]
    assert SECRET not in told
    assert "planted" not in told
    assert "\\u2022" in told


def test_cancelling_listens_even_while_waiting(tmp_path: Path) -> None:
    stop = threading.Event()

    def busy(request: Request) -> Answer:
        stop.set()
        return Answer({}, 429, {"Retry-After": "600"})

    with serving(busy) as source:
        result, _ = run_once(basket_text(source.url), tmp_path, stop=stop)
    assert result.outcome is RunOutcome.CANCELLED


def test_pauses_grow_up_to_a_bound_and_the_source_has_the_word() -> None:
    policy = Retry(attempts=10, first_wait="1s", max_wait="30s")  # type: ignore[arg-type]
    failed = SourceFailed("reading", found="500")
    waits = [decide(policy, n, failed, 0.0) for n in range(1, 10)]
    assert [w.seconds for w in waits if w] == [0.5, 1, 2, 4, 8, 15, 15, 15, 15]
    jittered = decide(policy, 3, failed, 0.999)
    assert jittered is not None
    assert 3.9 < jittered.seconds < 4
    assert decide(policy, 10, failed, 0.0) is None
    assert decide(policy, 1, CredentialsRefused("reading"), 0.0) is None
    asked = decide(policy, 1, SourceBusy("reading", wait_seconds=40), 0.5)
    assert asked is not None
    assert 40 <= asked.seconds <= 41
    assert decide(policy, 1, SourceBusy("reading", wait_seconds=3600), 0.5) is None


def test_retry_after_in_both_of_its_forms() -> None:
    now = datetime(2026, 3, 2, 6, 0, 0, tzinfo=UTC)
    assert retry_after_seconds("120", now) == 120
    assert retry_after_seconds("Mon, 02 Mar 2026 06:01:30 GMT", now) == 90
    assert retry_after_seconds("Mon, 02 Mar 2026 05:00:00 GMT", now) is None
    assert retry_after_seconds("soon", now) is None
    assert retry_after_seconds(None, now) is None


@given(st.integers(1, 50), st.lists(st.floats(0, 2), min_size=1, max_size=40))
def test_requests_are_never_closer_than_the_rate_allows(per_second: int, gaps: list[float]) -> None:
    pace, state, now, starts = Pace(per_second=per_second), PaceState(), 1000.0, []
    for gap in gaps:
        now += gap
        state, wait = reserve(pace, state, now)
        assert wait.seconds >= 0
        starts.append(now + wait.seconds)
    assert all(b - a >= MARGIN / per_second - 1e-6 for a, b in pairwise(starts))
    rested = apply_feedback(Retry(), state, now, RateLimitFeedback(rest_seconds=60))
    assert reserve(pace, rested, now)[1].seconds >= 60 - 1e-6


def test_no_more_at_once_than_allowed() -> None:
    pacer, stop = LocalPacer(Pace(concurrency=2)), threading.Event()
    most, now, lock = [0], [0], threading.Lock()

    def ask() -> None:
        turn = pacer.turn(stop, lambda _: None)
        with lock:
            now[0] += 1
            most[0] = max(most[0], now[0])
        time.sleep(0.01)
        with lock:
            now[0] -= 1
        turn.done(RateLimitFeedback())

    threads = [threading.Thread(target=ask) for _ in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert most[0] == 2


numbers = st.one_of(
    st.integers(-(10**30), 10**30),
    st.decimals(allow_nan=False, allow_infinity=False, places=12, min_value=-(10**12), max_value=10**12),
    st.floats(allow_nan=False, allow_infinity=False),
)


@given(st.lists(numbers, max_size=8))
def test_numbers_come_through_exactly_as_written(values: list[int | Decimal | float]) -> None:
    texts = [repr(v) if isinstance(v, float) else f"{v:f}" if isinstance(v, Decimal) else str(v) for v in values]
    parsed, _ = json_body.parse(f'{{"items": [{", ".join(texts)}], "note": "127.0.0.1.22222222222222"}}'.encode())
    for text, value in zip(texts, parsed["items"]):
        exact = value if isinstance(value, int | Decimal) else Decimal(repr(value))
        assert exact == Decimal(text), text
        if "." not in text and "e" not in text:
            assert isinstance(value, int)


def test_what_is_no_json_is_refused() -> None:
    for body in (b"", b"<html>", b"{'a': 1}", b'{"a": 1'):
        with pytest.raises(ValueError, match=r".+"):
            json_body.parse(body)
    assert json_body.parse(b'{"a": -Infinity}')[0] == {"a": float("-inf")}  # written by many, though RFC 8259 has none
    parsed, suspicious = json_body.parse(b'{"a": "\\ud800"}')
    assert (parsed, suspicious) == ({"a": "\ud800"}, True)
