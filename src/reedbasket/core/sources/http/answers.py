"""What came back, and what is wrong with it: foreign errors and statuses translated to the most exact class of ours."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

import urllib3

from ... import errors
from ..pace import RateLimitFeedback
from ..retry import LONGEST_OBEYED_SECONDS, retry_after_seconds


@dataclass(frozen=True)
class Answer:
    """A body and its headers, their names in lower case. url: where it came from in the end, redirects followed."""

    body: bytes
    headers: Mapping[str, str]
    status: int = 200
    url: str = ""


def no_answer(error: urllib3.exceptions.HTTPError, url: str, doing: str) -> errors.SourceError:
    """The most exact class for a request that got no answer, from urllib3's class, never from its message."""
    kinds = urllib3.exceptions
    if isinstance(error, kinds.ReadTimeoutError):
        return errors.SourceTimedOut(
            doing,
            url,
            found="no answer within the time allowed",
            fix="ask for smaller pages, or raise `timeouts.read`",
        )
    if isinstance(error, kinds.NameResolutionError):
        return errors.SourceUnreachable(
            doing, url, found="the host's name is not known", fix="check the address", code="source.name_not_known"
        )
    if isinstance(error, kinds.NewConnectionError):
        return errors.SourceUnreachable(
            doing, url, found="nothing accepts connections there", fix="check that the source is up, its host and port"
        )
    if isinstance(error, kinds.ConnectTimeoutError):
        return errors.SourceTimedOut(
            doing, url, found="no connection within the time allowed", fix="check address, port and firewall"
        )
    if isinstance(error, kinds.SSLError):
        why = getattr(error.args[0] if error.args else None, "verify_message", "") or "the two could not agree"
        return errors.SourceError(
            doing,
            url,
            found=f"no TLS connection: {why}",
            fix="check the certificate and the address; SSL_CERT_FILE names further authorities to trust",
            code="source.tls_refused",
        )
    if isinstance(error, kinds.LocationValueError | kinds.LocationParseError):
        return errors.SourceError(doing, url, found="not an address", fix="check `base_url` and `get`", code="source.bad_url")
    return errors.SourceUnreachable(
        doing, url, found="the connection broke before an answer came", fix="check that the source is up"
    )


def bad_status(
    status: int, headers: Mapping[str, str], body: bytes, url: str, doing: str, limits: RateLimitFeedback | None = None
) -> errors.SourceError:
    """limits: what the answer says of the source's limits, which is as good as Retry-After."""
    said = body[:300].decode("utf-8", "replace").strip()
    found = f"it answered {status}" + (f": {said}" if said else "")
    details: dict[str, float] = {"status": status}
    wait = retry_after_seconds(headers.get("retry-after"), datetime.now(UTC))
    if status == 403:
        return errors.SourceForbidden(
            doing,
            url,
            found=found,
            fix="the account behind the secret may not read this: grant it the right at the source, or leave the table out; some "
            "sources answer a wrong secret this way too",
            details=details,
        )
    if status == 401:
        return errors.SourceRefused(
            doing,
            url,
            found=found,
            fix="check the secret and its rights; set it again with `reed secret set`",
            details=details,
        )
    if wait is None and status == 429 and limits and limits.left == 0 and limits.left_seconds is not None:
        wait = limits.left_seconds
    if status == 429 or (status == 503 and wait is not None):
        fix = "lower `rate_limit` in the connector"
        if wait is not None and wait > LONGEST_OBEYED_SECONDS:
            found += f" (asks for {wait:.0f} s of rest)"
            fix = "run again later; a run waits at most 15 minutes"
        if limits and limits.limit and limits.window:
            details |= {"limit": limits.limit, "window": limits.window}
        return errors.SourceBusy(doing, url, found=found, fix=fix, wait_seconds=wait, details=details)
    if status >= 500 or status == 408:
        return errors.SourceFailed(
            doing, url, found=found, fix="ask whoever runs the source", wait_seconds=wait, details=details
        )
    return errors.SourceError(
        doing,
        url,
        found=found,
        fix="check path and parameters in the connector",
        code="source.bad_request",
        details=details,
    )


def status_of(error: errors.SourceError) -> int | None:
    """The status of the answer that an error came from; None where there was none."""
    return error.details.get("status") if isinstance(error.details, dict) else None


def moved(status: int, to: str, why: str, url: str, doing: str, *, code: str = "source.moved") -> errors.SourceError:
    """A redirect that is not followed."""
    return errors.SourceError(
        doing,
        url,
        found=f"it answered {status}, moved to {to or 'nowhere'}; {why}",
        fix="put the right address into the settings or the connector",
        code=code,
        details={"status": status},
    )
