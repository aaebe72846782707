"""One request, sent until it succeeds or there is no more point: pace, timeouts, retries, foreign errors translated.

A request here is a GET, so it may be repeated.
"""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

import urllib3
from urllib3.util import Timeout

from ... import errors
from ...masking import Mask
from ...spec.model import Retry, Timeouts
from ..pace import Pacer, taking_turn, wait_or_stop
from ..retry import LONGEST_OBEYED_SECONDS, decide, retry_after_seconds
from .credentials import Credentials

# One page is held in memory whole, so it has a bound: a worker must stay under 300 MB.
LARGEST_BODY_BYTES = 32 * 1024 * 1024
_PIECE_BYTES = 256 * 1024


@dataclass(frozen=True)
class RequestSeen:
    """One request as it is kept in the run's log. The URL is masked; status is None where no answer came."""

    method: str
    url: str
    status: int | None
    seconds: float
    body_bytes: int
    attempt: int
    waited_seconds: float
    problem: str = ""
    pause_seconds: float = 0.0
    pause_reason: str = ""


@dataclass(frozen=True)
class Answer:
    """A body and its headers, their names in lower case."""

    body: bytes
    headers: Mapping[str, str]


class Sender:
    """Sends requests of one source. `seen` is called for every attempt, from the thread that sends."""

    def __init__(
        self,
        *,
        timeouts: Timeouts,
        retry: Retry,
        pacer: Pacer,
        stop: threading.Event,
        mask: Mask,
        seen: Callable[[RequestSeen], None],
        credentials: Credentials | None = None,
    ) -> None:
        self._timeouts = timeouts
        self._retry = retry
        self._pacer = pacer
        self._stop = stop
        self._mask = mask
        self._seen = seen
        self._credentials = credentials or Credentials()
        self._headers = {"accept": "application/json", "accept-encoding": "gzip", **self._credentials.headers}
        self._pool = urllib3.PoolManager(num_pools=4, maxsize=4, retries=False)

    def __repr__(self) -> str:
        return f"Sender(headers={sorted(self._headers)})"

    def close(self) -> None:
        self._pool.clear()

    def get(self, url: str, doing: str) -> Answer:
        """A 200 answer. Raises a SourceError, facts masked, after the policy's last attempt; RunCancelled."""
        attempt, url = 0, self._credentials.address(url)
        while True:
            attempt += 1
            with taking_turn(self._pacer, self._stop) as waited:
                began = time.monotonic()
                status: int | None
                try:
                    status, body, headers = self._once(url, doing)
                    problem = None
                except errors.SourceError as error:
                    problem, status, body = self._mask.error(error), _status_of(error), b""
                    headers = {}
            pause = decide(self._retry, attempt, problem, random.random()) if problem else None
            self._seen(
                RequestSeen(
                    "GET",
                    self._mask.text(url),
                    status,
                    time.monotonic() - began,
                    len(body),
                    attempt,
                    waited,
                    str(problem.found) if problem else "",
                    pause.seconds if pause else 0.0,
                    pause.reason if pause else "",
                )
            )
            if problem is None:
                return Answer(body, headers)
            if pause is None:
                if problem.retryable:
                    problem.found += f" (attempt {attempt} of {self._retry.attempts})"
                raise problem
            if problem.wait_seconds is not None:
                self._pacer.hold_off(pause.seconds)
            wait_or_stop(self._stop, pause.seconds, doing)

    def _once(self, url: str, doing: str) -> tuple[int, bytes, dict[str, str]]:
        deadline = time.monotonic() + self._timeouts.request
        try:
            answer = self._pool.request(
                "GET",
                url,
                headers=self._headers,
                preload_content=False,
                redirect=False,
                timeout=Timeout(connect=self._timeouts.connect, read=self._timeouts.read),
            )
        except urllib3.exceptions.HTTPError as error:
            raise _no_answer(error, url, doing) from error
        except ValueError:
            # http.client refuses line breaks and what Latin-1 lacks; its message would repeat the value, a secret perhaps.
            raise errors.SourceError(
                doing,
                url,
                found="a header or the address holds characters that HTTP cannot carry",
                mend="check the secret, `headers` and `get`; a token with a line break at its end is a usual cause",
                code="source.bad_header",
            ) from None
        try:
            body = self._body(answer, deadline, url, doing)
            if answer.status == 200:
                return 200, body, {name.lower(): value for name, value in answer.headers.items()}
            raise _bad_status(answer.status, answer.headers, body, url, doing)
        finally:
            answer.release_conn()

    def _body(self, answer: urllib3.BaseHTTPResponse, deadline: float, url: str, doing: str) -> bytes:
        """Read to the end, within size and time: urllib3's own timeout starts anew with every byte that drips in."""
        pieces: list[bytes] = []
        size = 0
        try:
            for piece in answer.stream(_PIECE_BYTES, decode_content=True):
                pieces.append(piece)
                size += len(piece)
                if size > LARGEST_BODY_BYTES:
                    answer.close()
                    raise errors.BodyUnreadable(
                        doing,
                        url,
                        found=f"a body of more than {LARGEST_BODY_BYTES // 2**20} MiB",
                        mend="ask for smaller pages",
                        code="source.body_too_large",
                    )
                if time.monotonic() > deadline:
                    answer.close()
                    raise errors.SourceTimedOut(
                        doing,
                        url,
                        found=f"{size} bytes after {self._timeouts.request:g} s, and not at the end",
                        mend="ask for smaller pages, or raise `timeouts.request`",
                    )
        except urllib3.exceptions.ReadTimeoutError as error:
            raise _no_answer(error, url, doing) from error
        except urllib3.exceptions.DecodeError as error:
            raise errors.BodyUnreadable(
                doing, url, found=f"a body that does not decompress after {size} bytes", mend="ask the source's keeper"
            ) from error
        except urllib3.exceptions.HTTPError as error:
            answer.close()
            raise errors.BodyCutOff(
                doing,
                url,
                found=f"the connection ended after {size} bytes, before the body did",
                mend="the request is repeated by itself; if it goes on, ask the source's keeper",
            ) from error
        return b"".join(pieces)


def _no_answer(error: urllib3.exceptions.HTTPError, url: str, doing: str) -> errors.SourceError:
    """The most exact class for a request that got no answer, from urllib3's class, never from its message."""
    kinds = urllib3.exceptions
    if isinstance(error, kinds.ReadTimeoutError):
        return errors.SourceTimedOut(
            doing,
            url,
            found="no answer within the time allowed",
            mend="ask for smaller pages, or raise `timeouts.read`",
        )
    if isinstance(error, kinds.NameResolutionError):
        return errors.SourceUnreachable(
            doing, url, found="the host's name is not known", mend="check the address", code="source.name_not_known"
        )
    if isinstance(error, kinds.NewConnectionError):
        return errors.SourceUnreachable(
            doing, url, found="nothing accepts connections there", mend="check that the source is up, its host and port"
        )
    if isinstance(error, kinds.ConnectTimeoutError):
        return errors.SourceTimedOut(
            doing, url, found="no connection within the time allowed", mend="check address, port and firewall"
        )
    if isinstance(error, kinds.SSLError):
        refused = errors.SourceError(
            doing,
            url,
            found="no TLS connection",
            mend="check the certificate and the address",
            code="source.tls_refused",
        )
        return refused
    if isinstance(error, kinds.LocationValueError | kinds.LocationParseError):
        return errors.SourceError(doing, url, found="not an address", mend="check `base` and `get`", code="source.bad_url")
    return errors.SourceUnreachable(
        doing, url, found="the connection broke before an answer came", mend="check that the source is up"
    )


def _bad_status(status: int, headers: Mapping[str, str], body: bytes, url: str, doing: str) -> errors.SourceError:
    said = body[:300].decode("utf-8", "replace").strip()
    found = f"it answered {status}" + (f": {said}" if said else "")
    details = {"status": status}
    wait = retry_after_seconds(headers.get("retry-after"), datetime.now(UTC))
    if status in (401, 403):
        return errors.SourceRefused(
            doing,
            url,
            found=found,
            mend="check the secret and its rights; set it anew with `reed secret set`",
            details=details,
        )
    if status == 429 or (status == 503 and wait is not None):
        mend = "lower `pace` in the connector"
        if wait is not None and wait > LONGEST_OBEYED_SECONDS:
            found += f" (asks for {wait:.0f} s of rest)"
            mend = "run again later; a run waits at most 15 minutes"
        return errors.SourceBusy(doing, url, found=found, mend=mend, wait_seconds=wait, details=details)
    if status >= 500 or status == 408:
        return errors.SourceFailed(doing, url, found=found, mend="ask the source's keeper", wait_seconds=wait, details=details)
    if 300 <= status < 400:
        where = headers.get("location", "elsewhere")
        return errors.SourceError(
            doing,
            url,
            found=f"it answered {status}, moved to {where}",
            mend="put the new address into the settings",
            code="source.moved",
            details=details,
        )
    return errors.SourceError(
        doing,
        url,
        found=found,
        mend="check path and parameters in the connector",
        code="source.bad_request",
        details=details,
    )


def _status_of(error: errors.SourceError) -> int | None:
    return error.details.get("status") if isinstance(error.details, dict) else None
