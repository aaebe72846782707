"""Serves the built console: files by their hashed names, and its page for its addresses."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, current_app, send_from_directory

from .parts import Parts

FOLDER = Path(__file__).parent / "static"

blueprint = Blueprint("console", __name__)

# The console needs nothing from anywhere else. Inline styles are how styled-components works.
_POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'"


@blueprint.get("/assets/<path:name>")
def asset(name: str) -> Response:
    answer = send_from_directory(FOLDER / "assets", name)
    answer.headers["Cache-Control"] = "public, max-age=31536000, immutable"
    return answer


def page(**_: str) -> Response:
    """The console's one page; its own router shows what the address means."""
    if not (FOLDER / "index.html").exists():
        return Response(
            "The console is not built: run `make console`. The API is at /api/v1.\n", 503, content_type="text/plain"
        )
    parts: Parts = current_app.extensions["reed"]
    parts.looks.get_ready()
    answer = send_from_directory(FOLDER, "index.html")
    answer.headers["Cache-Control"] = "no-cache"
    answer.headers["Content-Security-Policy"] = _POLICY
    answer.headers["X-Content-Type-Options"] = "nosniff"
    answer.headers["Referrer-Policy"] = "no-referrer"
    return answer


# The console's addresses, as in console/src/main.tsx. Not a pattern for everything: what is no page must be a 404.
for _rule in (
    "/",
    "/sign-in",
    "/feeds/<feed>",
    "/schedules",
    "/settings",
    "/sources",
    "/sources/<source>",
    "/runs",
    "/runs/<run>",
    "/warehouses/<warehouse>",
    "/warehouses/<warehouse>/<table>",
):
    blueprint.add_url_rule(_rule, "page", page, methods=["GET"])
