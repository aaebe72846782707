"""The Flask application: `create_app` builds it, and nothing is created at import."""

from __future__ import annotations

import logging
import re

from flask import Flask, Response, g, request

from ..store import access
from ..store.access import Caller
from . import auth, console, problems
from .parts import Parts
from .prefix import PrefixMiddleware, prefix_of
from .views import openid, operations, sources

# The largest request is a basket of definitions.
_LARGEST_REQUEST_BYTES = 8 * 1024 * 1024
# Calls that change nothing anybody would ask for later; looking at a source is a POST, since it costs the source something.
# Looks with a draft are noted: it may send a secret to wherever it says.
_NOT_NOTED = {
    "plan",
    "check_one_source",
    "check_warehouse",
    "survey_source",
    "preview_table",
    "preview_files",
    "setup_sql_of_source",
    "verify",
    "query_warehouse",
}


# Of every answer that does not say otherwise, as the console's page does. What is answered here is for whoever asked, and for now.
_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "Cache-Control": "no-store",
    "Content-Security-Policy": "default-src 'none'; frame-ancestors 'none'",
    "Referrer-Policy": "no-referrer",
}


def create_app(parts: Parts) -> Flask:
    """The service's WSGI application."""
    app = Flask(__name__, static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = _LARGEST_REQUEST_BYTES
    app.extensions["reed"] = parts
    declared = {f"api.{o.name}": o for o in operations.all}
    further = {name.strip().lower() for name in parts.settings.hosts.split(",") if name.strip()}

    @app.before_request
    def check() -> None:
        auth.check_host(request, further)
        endpoint = request.endpoint
        if endpoint is None or not (request.path.startswith("/api/") or endpoint in declared):
            return
        operation = declared.get(endpoint)
        if operation is not None and operation.role is None:
            return
        g.caller = auth.caller_of(request, parts.store)
        # What is no declared operation but lies below /api/ is at least not for everybody.
        auth.require_role(
            g.caller, operation.role or "viewer" if operation else "viewer", f"calling {request.method} {request.path}"
        )

    @app.after_request
    def note(answer: Response) -> Response:
        for name, text in _HEADERS.items():
            answer.headers.setdefault(name, text)
        if request.is_secure:
            answer.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
        who: Caller | None = g.get("caller")
        operation = declared.get(request.endpoint or "")
        if who is None or operation is None or request.method == "GET" or operation.name in _NOT_NOTED:
            return answer
        if answer.status_code < 400 or answer.status_code == 403:
            named = " ".join(str(value) for value in (request.view_args or {}).values())
            try:
                access.note(
                    parts.store, who.name, re.sub("_", " ", operation.name), named, answer.status_code, g.get("audit", "")
                )
            except Exception as error:  # what was done was done; that it was not noted must not say otherwise
                logging.getLogger("reedbasket.audit").error("not noted: %s %s: %s", operation.name, named, error)
        return answer

    app.register_blueprint(operations.blueprint)
    app.register_blueprint(sources.blueprint)
    app.register_blueprint(openid.blueprint)
    app.register_blueprint(console.blueprint)
    problems.register(app)
    prefix = prefix_of(parts.settings.public_url)
    if prefix:
        app.wsgi_app = PrefixMiddleware(app.wsgi_app, prefix)  # type: ignore[method-assign]
    return app
