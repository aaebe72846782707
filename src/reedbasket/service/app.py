"""The Flask application: built whole by `create_app`, with no state at import."""

from __future__ import annotations

from flask import Flask, request

from . import auth, console, problems
from .parts import Parts
from .views import operations, sources

# The largest request is a basket of definitions.
_LARGEST_REQUEST_BYTES = 8 * 1024 * 1024


def create_app(parts: Parts) -> Flask:
    app = Flask(__name__, static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = _LARGEST_REQUEST_BYTES
    app.extensions["reed"] = parts
    open_to_all = {f"api.{o.name}" for o in operations.all if o.open_to_all}
    further = {name.strip().lower() for name in parts.settings.hosts.split(",") if name.strip()}

    @app.before_request
    def check() -> None:
        auth.check_host(request, further)
        if request.path.startswith("/api/") and request.endpoint is not None and request.endpoint not in open_to_all:
            auth.check_caller(request, parts.store)

    app.register_blueprint(operations.blueprint)
    app.register_blueprint(sources.blueprint)
    app.register_blueprint(console.blueprint)
    problems.register(app)
    return app
