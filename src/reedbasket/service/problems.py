"""Errors as the service answers them: RFC 9457 problem details, with our facts as extension members."""

from __future__ import annotations

import math
from typing import Any

import orjson
from flask import Flask, Response
from werkzeug.exceptions import HTTPException

from ..core import errors
from ..store.database import StoreError
from .inspection_pool import InspectionEnded
from .isolated import TookTooLong

# The first class that fits decides.
_STATUS: list[tuple[type[errors.ReedError], int]] = [
    (errors.NotFound, 404),
    (errors.Conflict, 409),
    (errors.DefinitionError, 422),
    (errors.QueryRefused, 422),
    (errors.SecretMissing, 409),
    (errors.WarehouseBusy, 503),
    (errors.SourceError, 502),
    (InspectionEnded, 503),
    (TookTooLong, 422),
    (StoreError, 500),
]

_TITLES = {
    400: "The request is not valid",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not found",
    405: "Method not allowed",
    409: "Not possible in the present state",
    413: "Too large",
    415: "Not JSON",
    422: "Cannot be done as requested",
    429: "Too many attempts",
    500: "A bug in the service",
    502: "The source failed",
    503: "Busy",
}


class BadRequest(errors.ReedError):
    """A request that the API cannot use."""

    code = "request.invalid"


class NotSignedIn(errors.ReedError):
    """The caller is not signed in."""

    code = "access.not_signed_in"


class Forbidden(errors.ReedError):
    """The caller may not do this."""

    code = "access.forbidden"


class TooBusy(errors.ReedError):
    """There are more requests at once than the service has room for."""

    code = "service.busy"
    retryable = True


class TooManyStreams(errors.ReedError):
    """One caller has more streams than is allowed."""

    code = "service.too_many_streams"


# What a source's error is about is sometimes ours to fix, and it was not even asked.
_BY_CODE = {"source.bad_header": 422, "access.too_many_attempts": 429, "access.bad_password": 422}


def status_of(error: errors.ReedError) -> int:
    """The HTTP status of an error."""
    if error.code in _BY_CODE:
        return _BY_CODE[error.code]
    own = {BadRequest: 400, NotSignedIn: 401, Forbidden: 403, TooManyStreams: 503, TooBusy: 503}
    for kind, status in [*own.items(), *_STATUS]:
        if isinstance(error, kind):
            return status
    return 500


def problem(error: errors.ReedError, status: int | None = None) -> Response:
    """The answer for an error."""
    status = status or status_of(error)
    facts = error.as_dict()
    body: dict[str, Any] = {
        "type": "about:blank",
        "title": _TITLES.get(status, "Failed"),
        "status": status,
        "detail": str(error),
        **{k: facts[k] for k in ("code", "doing", "on", "found", "fix", "details")},
    }
    answer = Response(orjson.dumps(body, default=str), status, content_type="application/problem+json")
    if error.wait_seconds is not None and status in (429, 503):
        answer.headers["Retry-After"] = str(math.ceil(error.wait_seconds))
    if status == 401:
        answer.headers["WWW-Authenticate"] = 'Bearer realm="reedbasket"'
    return answer


def register(app: Flask) -> None:
    """Handlers for our errors, the web framework's, and bugs."""
    app.register_error_handler(errors.ReedError, problem)
    app.register_error_handler(HTTPException, _framework)
    app.register_error_handler(Exception, _defect)


def _framework(error: HTTPException) -> Response:
    status = error.code or 500
    codes = {404: "api.not_found", 405: "api.method_not_allowed", 413: "request.too_large", 415: "request.not_json"}
    made = problem(
        BadRequest("answering the request", found=error.name.lower(), fix="see /api/v1/openapi.json", code=codes.get(status)),
        status,
    )
    for name, value in error.get_headers():
        if name.lower() == "allow":
            made.headers["Allow"] = value
    return made


def _defect(error: Exception) -> Response:
    import logging

    logging.getLogger("reedbasket").error("bug while answering", exc_info=error)
    return problem(
        errors.ReedError(
            "answering the request",
            found=type(error).__name__,
            fix="report it with the service's output",
            code="service.defect",
        ),
        500,
    )
