"""The service itself: health, readiness, metrics, the description of the API, backups."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Annotated, Any

from flask import Response
from pydantic import Field

from ... import __version__, wire
from ...core.errors import NotFound
from ...store import settings
from .. import metrics, openapi
from ..operations import Body, as_json
from ..problems import BadRequest
from ..settings import BOUNDS, CHANGEABLE
from .shared import caller, noted, operations, parts
from .streams import LONGEST_STREAM_SECONDS, QUIET_SECONDS, event, streamed

_CHANGES_SECONDS = 2.0


@operations.add("GET", "/healthz", "whether the service answers", role=None)
def health() -> wire.Health:
    return {"status": "ok", "version": __version__}


@operations.add("GET", "/readyz", "whether the service is ready for work", answer=wire.Readiness, problems=(503,), role=None)
def ready() -> Response:
    own, problems = parts(), []
    try:
        own.store.connection.execute("select 1 from run limit 1").fetchone()
    except Exception as error:
        problems.append(f"the store does not answer: {type(error).__name__}")
    up = own.workers.up()
    if up == 0:
        problems.append("no worker is up yet")
    if own.closing:
        problems.append("the service is being stopped")
    answer = {"ready": not problems, "workers": up, "problems": problems}
    return as_json(answer, 200 if not problems else 503)


@operations.add(
    "GET", "/metrics", "metrics for monitoring (OpenMetrics 1.0)", answer=str, stream="application/openmetrics-text"
)
def figures() -> Response:
    text = metrics.exposition(parts())
    return Response(text, content_type="application/openmetrics-text; version=1.0.0; charset=utf-8")


# Of what the service was started with, what tells how it goes about its work; no path, and nothing secret.
_SHOWN = (
    "workers", "threads", "keep_days", "keep_runs_days", "keep_rejects_days", "keep_audit_days", "grace_seconds", "notification_seconds",
    "mail_server", "mail_to", "public_url",
)  # fmt: skip


class ChangeSetting(Body):
    """The new value of a setting."""

    value: Annotated[int | None, Field(description="null: what the service was started with")]


@operations.add("GET", "/api/v1/settings", "the service's settings", role="admin")
def list_settings() -> list[wire.Setting]:
    own, changed = parts().settings, settings.read(parts().store)
    return [
        {
            "name": name,
            "value": changed.get(name, str(getattr(own, name))),
            "changeable": name in CHANGEABLE,
            "began_with": str(getattr(own, name)) if name in changed else None,
        }
        for name in _SHOWN
    ]


@operations.add(
    "PUT",
    "/api/v1/settings/{name}",
    "change for how many days something is kept; what is older is removed within the hour",
    body=ChangeSetting,
    role="admin",
    problems=(404, 422),
)
def change_setting(name: str, body: ChangeSetting) -> list[wire.Setting]:
    if name not in CHANGEABLE:
        raise NotFound(
            "changing the setting",
            name,
            found="it cannot be changed while the service runs",
            fix=f"those are {', '.join(CHANGEABLE)}; start the service with another value for it",
            code="setting.not_changeable",
        )
    low, high = BOUNDS[name]
    if body.value is not None and not low <= body.value <= high:
        raise BadRequest(
            "changing the setting",
            name,
            found=str(body.value),
            fix=f"give a number from {low} to {high}",
            code="setting.out_of_bounds",
        )
    noted(f"{name}: {'as started' if body.value is None else body.value}")
    settings.write(parts().store, name, None if body.value is None else str(body.value), caller().name)
    return list_settings()


@operations.add(
    "GET",
    "/api/v1/events",
    "live: a `changed` event when something changed, at most every two seconds",
    answer=str,
    problems=(503,),
    stream="text/event-stream",
)
def store_events() -> Response:
    return streamed("the service", _changes)


def _changes() -> Iterator[bytes]:
    own = parts()
    ends = time.monotonic() + LONGEST_STREAM_SECONDS
    last, said = None, 0.0
    while time.monotonic() < ends and not own.closing:
        # It moves with every commit of another connection, in whatever process (https://sqlite.org/pragma.html#pragma_data_version).
        version = own.store.connection.execute("pragma data_version").fetchone()[0]
        if version != last:
            yield event("changed", {}, version)
            said = time.monotonic()
        elif time.monotonic() - said >= QUIET_SECONDS:
            yield b": still here\n\n"
            said = time.monotonic()
        last = version
        time.sleep(_CHANGES_SECONDS)


@operations.add("GET", "/api/v1/openapi.json", "this document", role=None)
def api_document() -> dict[str, Any]:
    return openapi.document(operations)
