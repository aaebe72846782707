"""The service itself: health, readiness, figures, the API's own description, backups."""

from __future__ import annotations

from typing import Any

from flask import Response

from ... import __version__, wire
from .. import metrics, openapi
from ..operations import as_json
from .shared import operations, parts


@operations.add("GET", "/healthz", "whether the service answers", answer=wire.Health, role=None)
def health() -> Any:
    return {"status": "ok", "version": __version__}


@operations.add("GET", "/readyz", "whether it can do its work", answer=wire.Readiness, problems=(503,), role=None)
def ready() -> Any:
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
    "GET", "/metrics", "figures for monitoring (OpenMetrics 1.0)", answer=str, stream="application/openmetrics-text"
)
def figures() -> Response:
    text = metrics.exposition(parts())
    return Response(text, content_type="application/openmetrics-text; version=1.0.0; charset=utf-8")


# Of what the service was started with, what tells how it goes about its work; no path, and nothing secret.
_SHOWN = (
    "workers", "threads", "keep_days", "keep_runs_days", "keep_rejects_days", "keep_audit_days", "grace_seconds", "notice_seconds",
    "mail_server", "mail_to", "public_url",
)  # fmt: skip


@operations.add("GET", "/api/v1/settings", "what the service was started with", answer=list[wire.Setting], role="admin")
def started_with() -> Any:
    own = parts().settings
    return [{"name": name, "value": str(getattr(own, name))} for name in _SHOWN]


@operations.add("GET", "/api/v1/openapi.json", "this document", answer=dict[str, Any], role=None)
def api_document() -> Any:
    return openapi.document(operations)
