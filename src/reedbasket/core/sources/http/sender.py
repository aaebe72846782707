"""Sending one request until it succeeds or there is no point in going on: pace, credentials, redirects, timeouts, retries."""

from __future__ import annotations

import random
import threading
import time
import zlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any, cast
from urllib.parse import urljoin, urlsplit

import urllib3
from urllib3.util import Timeout

from ... import errors
from ...masking import HIDDEN, Mask
from ...spec.http import Retry, Timeouts
from ..big_json import LARGE_BYTES
from ..pace import RateLimitFeedback, Wait, stated_limits
from ..pacer import Pacer, wait_or_stop
from ..requests_seen import Exchange, RequestSeen
from ..retry import decide
from .answers import Answer, bad_status, moved, no_answer, status_of
from .authentication import FixedCredentials, SignIn
from .connections import Connections
from .credentials import Credentials
from .decoding import Decoder
from .recording import Recording
from .request import Request

# One page is held in memory whole, so it has a bound: a worker must stay under 300 MB.
LARGEST_BODY_BYTES = 64 * 1024 * 1024
_PIECE_BYTES = 256 * 1024
# Of a body, what people are shown of it.
SHOWN_BYTES = 16 * 1024
_MOST_REDIRECTS = 5
# How soon a cancelled run stops waiting for an answer.
_LOOK_SECONDS = 0.25
GOOD = frozenset({200})
ACCEPTED = "gzip"


class Sender:
    """Sends one source's requests, from several threads. Calls `seen` for every attempt and `told` before a longer wait, both from the
    thread that sends.
    """

    def __init__(  # noqa: PLR0913 - each by its name
        self,
        *,
        timeouts: Timeouts,
        retry: Retry,
        pacer: Pacer,
        stop: threading.Event,
        mask: Mask,
        seen: Callable[[RequestSeen], None],
        sign_in: SignIn | None = None,
        told: Callable[[Wait], None] = lambda wait: None,
        concurrency: int = 4,
        wire: Callable[[Exchange], None] | None = None,
        wire_bytes: int = SHOWN_BYTES,
        bodies: bool = False,
        tape: Recording | None = None,
    ) -> None:
        """Prepare; nothing is sent yet.

        Args:
            wire: is told about every exchange, with so many bytes of each body, for people to look at.
            bodies: `seen` gets all exchanges too.
            tape: records answers, or replays them.
        """
        self._timeouts = timeouts
        self._retry = retry
        self._pacer = pacer
        self.stop = stop
        self._mask = mask
        self._seen = seen
        self._told = told
        self._sign_in = sign_in or FixedCredentials()
        self.concurrency = concurrency
        self._wire, self._wire_bytes = wire, wire_bytes
        self._bodies = bodies
        self._tape = tape
        self._pool = Connections(concurrency)
        self._closed = threading.Event()
        self._watched = False

    def __repr__(self) -> str:
        return "Sender()"

    def close(self) -> None:
        """Close the connections; nothing more is sent."""
        self._closed.set()
        self._pool.clear()
        self._pacer.close()

    def again(self, request: Request, doing: str, good: frozenset[int], problem: errors.SourceError, attempt: int) -> Answer:
        """Send a request again, after a pause, because its answer could not be used.

        Args:
            problem: raised after the policy's last attempt.
            attempt: which one that was, from 1.

        Raises:
            SourceError: the problem, or what `send` raises.
        """
        pause = decide(self._retry, attempt, problem, random.random())
        if pause is None:
            problem.found += f" (attempt {attempt} of {self._retry.attempts})" if problem.retryable and attempt > 1 else ""
            raise problem
        self._tell_wait(Wait(pause.seconds, pause.reason))
        wait_or_stop(self.stop, pause.seconds, doing)
        return self.send(request, doing, good, before=attempt)

    def send(self, request: Request, doing: str, good: frozenset[int] = GOOD, *, before: int = 0) -> Answer:
        """The answer, with one of the statuses in `good`.

        Args:
            before: failed attempts before this call.

        Raises:
            SourceError: after the policy's last attempt; its facts are masked.
            RunCancelled: the run was cancelled.
        """
        attempt, renewed = before, False
        while True:
            attempt += 1
            shown = self._sign_in.shown(request)
            answer, problem, pause = self._attempt(request, shown, doing, good, attempt)
            if answer is not None:
                return answer
            assert problem is not None
            if isinstance(problem, errors.CredentialsRefused) and status_of(problem) == 401 and not renewed:
                # A token may end before its time. It is renewed once; refused again, it is not the token.
                renewed = True
                if self._sign_in.refused(shown):
                    attempt -= 1
                    continue
            if pause is None:
                if problem.retryable:
                    problem.found += f" (attempt {attempt} of {self._retry.attempts})"
                raise problem
            self._tell_wait(Wait(pause[0], pause[1]))
            wait_or_stop(self.stop, pause[0], doing)

    def _attempt(
        self, request: Request, shown: Credentials, doing: str, good: frozenset[int], attempt: int
    ) -> tuple[Answer | None, errors.SourceError | None, tuple[float, str] | None]:
        """(answer, or what went wrong, the pause before the next attempt or None for giving up)."""
        turn = self._pacer.turn(self.stop, self._tell_wait)
        said, problem, answer = RateLimitFeedback(failed=None), None, None
        exchanges: list[Exchange] = []
        began = time.monotonic()
        try:
            try:
                answer = self._once(request, shown, doing, good, exchanges)
                said = stated_limits(answer.headers, time.time())
            except errors.SourceError as error:
                problem = error
                self._mask.error(problem)
                said = _said_by(problem)
            decision = decide(self._retry, attempt, problem, random.random()) if problem else None
            if isinstance(problem, errors.SourceBusy) and decision:
                # It asked this one request to wait, and means all of them.
                said = replace(said, rest_seconds=decision.seconds)
        finally:
            turn.done(said)
        self._seen(
            RequestSeen(
                request.method,
                self._mask.text(shown.address(request.url)),
                answer.status if answer else status_of(problem) if problem else None,
                time.monotonic() - began,
                len(answer.body) if answer else 0,
                attempt,
                turn.waited_seconds,
                str(problem.found) if problem else "",
                decision.seconds if decision else 0.0,
                decision.reason if decision else "",
                exchanges[-1] if exchanges else None,
            )
        )
        return answer, problem, (decision.seconds, decision.reason) if decision else None

    def _tell_wait(self, wait: Wait) -> None:
        if wait.seconds >= 1.0:
            self._told(wait)

    def _once(
        self, request: Request, shown: Credentials, doing: str, good: frozenset[int], exchanges: list[Exchange]
    ) -> Answer:
        """Send it, and follow redirects: to the same host with everything, to another one without credentials. What has to be kept is
        added to `exchanges`.
        """
        deadline = time.monotonic() + self._timeouts.total
        address, headers = shown.address(request.url), {"accept-encoding": ACCEPTED, **request.headers, **shown.headers}
        method, body, in_default_schema, visited = request.method, request.body, True, [request.url]
        while True:
            raw = self._ask(method, address, headers, body, doing)
            try:
                if raw.status not in (301, 302, 303, 307, 308):
                    content = self._body(raw, deadline, address, doing)
                    found = {name.lower(): value for name, value in raw.headers.items()}
                    if self._wire or self._bodies or raw.status not in good:
                        exchange = self._exchange(method, address, headers, shown, body, raw.status, found, content)
                        exchanges.append(exchange)
                        if self._wire:
                            self._wire(exchange)
                    if raw.status in good:
                        return Answer(content, found, raw.status, address if in_default_schema else request.url)
                    raise bad_status(raw.status, found, content, address, doing, stated_limits(found, time.time()))
                target = urljoin(address, raw.headers.get("location", ""))
                raw.drain_conn()
            finally:
                raw.release_conn()
            if target in visited or len(visited) > _MOST_REDIRECTS:
                raise moved(
                    raw.status, target, "it leads back to an earlier address", address, doing, code="source.redirect_loop"
                )
            visited.append(target)
            here, there = urlsplit(address), urlsplit(target)
            if there.scheme not in ("http", "https") or (here.scheme == "https" and there.scheme == "http"):
                raise moved(raw.status, target, "it leads from https to http", address, doing)
            if method == "POST" and raw.status == 303:
                method, body = "GET", None
            elif method == "POST" and (raw.status in (301, 302) or (here.scheme, here.netloc) != (there.scheme, there.netloc)):
                raise moved(raw.status, target, "a POST is not redirected", address, doing)
            if in_default_schema and (here.scheme, here.netloc) == (there.scheme, there.netloc):
                address = shown.address(target)
            else:
                in_default_schema, address = False, target
                headers = {name: text for name, text in headers.items() if name in ("accept", "accept-encoding")}

    def _exchange(  # noqa: PLR0913 - a part of the exchange each
        self,
        method: str,
        url: str,
        headers: dict[str, str],
        shown: Credentials,
        body: bytes | None,
        status: int,
        found: dict[str, str],
        content: bytes,
    ) -> Exchange:
        # Whatever it holds, a cookie or a header that shows who asks is nobody's to read.
        secret = {*shown.headers, "authorization", "cookie", "set-cookie"}

        def told(values: dict[str, str]) -> dict[str, str]:
            return {n: HIDDEN if n in secret else self._mask.text(v) for n, v in values.items()}

        def text(raw: bytes) -> str:
            return self._mask.text(raw[: self._wire_bytes].decode("utf-8", "replace"))

        cut = len(content) > self._wire_bytes
        return Exchange(method, self._mask.text(url), told(headers), text(body or b""), status, told(found), text(content), cut)

    def _watch(self) -> None:
        """A thread of its own: when the run is cancelled, nobody goes on waiting for an answer."""
        while not self._closed.is_set():
            if self.stop.wait(_LOOK_SECONDS):
                while not self._closed.wait(_LOOK_SECONDS):
                    self._pool.abort()
                return

    def _ask(self, method: str, url: str, headers: dict[str, str], body: bytes | None, doing: str) -> urllib3.BaseHTTPResponse:
        how: dict[str, Any] = {"preload_content": False, "redirect": False}
        timeout = Timeout(connect=self._timeouts.connect, read=self._timeouts.read)
        if not self._watched:
            self._watched = True
            threading.Thread(target=self._watch, name="watch for stop", daemon=True).start()
        try:
            if self._tape is not None:
                replayed: urllib3.BaseHTTPResponse = self._tape.request(
                    self._pool, method, url, headers=headers, body=body, timeout=timeout, **how
                )
                return replayed
            return self._pool.request(method, url, headers=headers, body=body, timeout=timeout, **how)
        except urllib3.exceptions.HTTPError as error:
            raise no_answer(error, url, doing) from error
        except ValueError:
            # http.client refuses line breaks and what Latin-1 lacks; its message would repeat the value, a secret perhaps.
            raise errors.SourceError(
                doing,
                url,
                found="a header or the address holds characters that HTTP cannot carry",
                fix="check the secret, `headers` and `get`; a token with a line break at its end is a usual cause",
                code="source.bad_header",
            ) from None

    def _body(self, answer: urllib3.BaseHTTPResponse, deadline: float, url: str, doing: str) -> bytes:
        """The whole body, within size and time limits: urllib3's own timeout starts again with every byte that arrives."""
        # Grown in place: pieces to be joined at the end would stand there twice.
        content = bytearray()
        size = 0
        coding = answer.headers.get("content-encoding", "")
        unpacked = _unpacking(coding, url, doing)
        try:
            for packed in answer.stream(_PIECE_BYTES, decode_content=False):
                for piece in unpacked.feed(packed):
                    content += piece
                    size = len(content)
                    if size > LARGEST_BODY_BYTES:
                        answer.close()
                        raise errors.BodyTooLarge(
                            doing,
                            url,
                            found=f"a body of more than {LARGEST_BODY_BYTES // 2**20} MiB",
                            fix="ask for smaller pages",
                        )
                if time.monotonic() > deadline:
                    answer.close()
                    raise errors.SourceTimedOut(
                        doing,
                        url,
                        found=f"{size} bytes after {self._timeouts.total:g} s, and it is still not complete",
                        fix="ask for smaller pages, or raise `timeouts.total`",
                    )
        except urllib3.exceptions.ReadTimeoutError as error:
            raise no_answer(error, url, doing) from error
        except zlib.error as error:
            answer.close()
            raise errors.BodyUnreadable(
                doing,
                url,
                found=f"a body that does not decompress after {size} bytes",
                fix="the request is retried automatically; if it persists, ask whoever runs the source",
            ) from error
        except urllib3.exceptions.HTTPError as error:
            answer.close()
            raise errors.BodyCutOff(
                doing,
                url,
                found=f"the connection ended after {size} bytes, before the body did",
                fix="the request is retried automatically; if it persists, ask whoever runs the source",
            ) from error
        if not unpacked.ended:
            raise errors.BodyCutOff(
                doing,
                url,
                found=f"the {coding} stream of the body does not end: {unpacked.bytes_in} bytes came, {size} when unpacked",
                fix="the request is retried automatically; if it persists, ask whoever runs the source",
            )
        # A large one stays as it is, which parsers read as they read bytes.
        return bytes(content) if size <= LARGE_BYTES else cast(bytes, content)


def _unpacking(coding: str, url: str, doing: str) -> Decoder:
    """Raises BodyUnreadable for a coding that nobody asked for."""
    try:
        return Decoder(coding)
    except ValueError:
        raise errors.BodyUnreadable(
            doing,
            url,
            found=f"a body encoded as {coding!r}, although {ACCEPTED} was requested",
            fix="ask whoever runs the source, or remove a header that requests it",
        ) from None


def _said_by(problem: errors.SourceError) -> RateLimitFeedback:
    """What an error means for the rate limit. A source that is down counts towards its cool-down; one that answers 4xx is up; a host name
    that does not exist says nothing about the source.
    """
    if isinstance(problem, errors.SourceUnreachable | errors.SourceTimedOut | errors.SourceFailed | errors.BodyCutOff):
        return RateLimitFeedback(failed=True)
    if isinstance(problem, errors.SourceBusy):
        return RateLimitFeedback(failed=False, limit=problem.details.get("limit"), window=problem.details.get("window"))
    return RateLimitFeedback(failed=False if status_of(problem) else None)
