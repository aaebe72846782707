"""Answers, and what is wrong with them: errors and statuses translated into the most exact error class."""

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
    """An answer.

    Attributes:
        headers: names in lower case.
        url: the address it came from in the end, after redirects.
    """

    body: bytes
    headers: Mapping[str, str]
    status: int = 200
    url: str = ""


def no_answer(error: urllib3.exceptions.HTTPError, url: str, doing: str) -> errors.SourceError:
    """The most exact error for a request without an answer, from urllib3's exception class, never from its message."""
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
            doing, url, found="the host's name cannot be resolved", fix="check the address", code="source.host_not_found"
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
        why = getattr(error.args[0] if error.args else None, "verify_message", "") or "TLS could not be negotiated"
        return errors.SourceError(
            doing,
            url,
            found=f"no TLS connection: {why}",
            fix="check the certificate and the address; SSL_CERT_FILE names more authorities to trust",
            code="source.tls_refused",
        )
    if isinstance(error, kinds.LocationValueError | kinds.LocationParseError):
        return errors.SourceError(doing, url, found="not an address", fix="check `base_url` and `get`", code="source.bad_url")
    return errors.SourceUnreachable(
        doing, url, found="the connection was lost before an answer came", fix="check that the source is up"
    )


def bad_status(
    status: int, headers: Mapping[str, str], body: bytes, url: str, doing: str, limits: RateLimitFeedback | None = None
) -> errors.SourceError:
    """The most exact error for an answer's status.

    Args:
        limits: what the answer says about rate limits, which is as good as Retry-After.
    """
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
        return errors.CredentialsRefused(
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
            found += f" (asks to wait for {wait:.0f} s)"
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
    """The status of the answer that caused an error; None if there was no answer."""
    return error.details.get("status") if isinstance(error.details, dict) else None


def moved(status: int, to: str, why: str, url: str, doing: str, *, code: str = "source.moved") -> errors.SourceError:
    """The error for a redirect that is not followed."""
    return errors.SourceError(
        doing,
        url,
        found=f"it answered {status}, moved to {to or 'nowhere'}; {why}",
        fix="correct the address in the settings or the connector",
        code=code,
        details={"status": status},
    )
